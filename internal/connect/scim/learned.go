package scim

// A learned is what a driver has found out about an application besides what the application says of itself.
type learned struct {
	trust  confidence // in what users say of their groups
	proven bool       // a filter finds the groups that a user is in
	asked  bool       // members are shown to who asks for them alone
	cut    int        // a list shows so many members of a group, and no more; 0 where that is not known
	uncut  bool       // a list showed as many as the longest group has
	single bool       // a filter names one account, and not several

	noFilter, noPatch, noBulk bool // although the application says otherwise
}

// knows is what was found out by now.
func (d *driver) knows() learned {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.learned
}

// learn notes what was found out.
func (d *driver) learn(note func(*learned)) {
	d.mu.Lock()
	defer d.mu.Unlock()
	note(&d.learned)
}

func (d *driver) filters() bool { return d.can.filter && !d.knows().noFilter }

func (d *driver) patches() bool { return d.can.patch && !d.knows().noPatch }

func (d *driver) bulky() bool { return d.can.bulk && !d.knows().noBulk }

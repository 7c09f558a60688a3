package guard

// exports holds all of an application's changes when its export cannot be
// trusted: it is empty, much smaller than the one before, or old.
func (c *checker) exports(a int) {
	n, before, lim := c.Accounts[a].Len(), c.Before[a], c.Limits[a]
	switch {
	case n == 0:
		c.out.Suspect[a] = true
		c.holdAll(a, every, ExportEmpty, "the export holds no account")
	case before > 0 && before-n > lim.ExportShrink.Of(before):
		c.out.Suspect[a] = true
		c.holdAll(a, every, ExportShrink, "the export holds %d accounts and the one before held %d; at most %s%s may be missing",
			n, before, lim.ExportShrink, limitOf(lim.ExportShrink, before, "accounts"))
	}
	switch taken := c.TakenAt[a]; {
	case taken > c.Clock+1: // a day is the difference of a time zone
		c.holdAll(a, every, ExportAge, "the export was taken on %s, which is yet to come: the clock of whoever wrote it is wrong, or its time was set", taken)
	case taken < min(c.Today, c.Clock).Back(lim.ExportAge):
		c.holdAll(a, every, ExportAge, "the export was taken on %s; on %s it is too old (exportAge)", taken, min(c.Today, c.Clock))
	}
}

// roster holds everything that narrows when many people are gone from the
// files since the plan before.
func (c *checker) roster() {
	n, before := c.People.Len(), c.PeopleBefore
	if before <= 0 || before-n <= c.LimitRoster.Of(before) {
		return
	}
	c.out.Roster = true
	for a := range c.Apps {
		c.holdAll(a, narrows, RosterShrink, "the files name %d people and at the plan before they named %d; at most %s%s may be missing",
			n, before, c.LimitRoster, limitOf(c.LimitRoster, before, "people"))
	}
}

package diff

import (
	"slices"
	"strconv"
	"strings"

	"pravet/internal/core/day"
	"pravet/internal/core/entitle"
	"pravet/internal/core/model"
)

// persons walks the people by the table of what is due (core/entitle).
func (w *walker) persons() {
	w.paths, w.ended = w.in.Leaving.Ways(int(w.a))
	for _, at := range w.app.Attrs {
		w.follows = append(w.follows, w.in.People.Column(at.Person))
	}
	others := map[int32][]int32{} // person → accounts beside the one that is compared
	for _, p := range w.out.Accounts {
		person := w.personOf[p.First]
		for _, at := range []int32{p.First, p.Second} {
			if at != w.accountOf[person] && !slices.Contains(others[person], at) {
				others[person] = append(others[person], at)
			}
		}
	}
	shared := map[int32]bool{} // people who have one account's name in common
	for _, p := range w.out.Persons {
		shared[p.First], shared[p.Second] = true, true
	}
	named := map[string]int32{} // names of which there may be several → slot
	for p := range w.accountOf {
		class := &w.in.Due.Classes[w.in.Due.Of[p]]
		account := w.accountOf[p]
		due := &class.Apps[w.a]
		if account == None && !due.Account() || !class.Selected {
			continue
		}
		if w.alone(account) {
			continue
		}
		if more := slices.DeleteFunc(others[int32(p)], w.alone); len(more) > 0 || shared[int32(p)] {
			w.several(int32(p), account, more, due, named)
			continue
		}
		if invitation, ok := w.invited[int32(p)]; ok {
			c := Change{App: w.a, Person: int32(p), Account: invitation, Thing: None, Attr: None, Why: Registered}
			c.Key = w.accounts.Key.At(int(invitation))
			w.add(c, model.Withdraw)
			w.next()
		}
		w.person(int32(p), account, due)
		w.next()
	}
}

// alone reports whether an account is left as it is.
func (w *walker) alone(account int32) bool {
	if account == None {
		return false
	}
	_, yes := w.app.IsAlone(w.accounts.Key.At(int(account)))
	return yes
}

// next ends the changes of an account.
func (w *walker) next() {
	if w.noted {
		w.slots, w.noted = w.slots+1, false
	}
}

// several compares all accounts of a person who has more than one, or whose
// account's name is another person's as well.
func (w *walker) several(p, account int32, more []int32, due *entitle.Due, named map[string]int32) {
	w.found, w.together = append(w.found, nil), true
	w.person(p, account, due)
	for _, at := range more {
		w.second(p, at, due)
	}
	last := len(w.found) - 1
	theirs := distinct(w.found[last])
	w.found, w.together, w.noted = w.found[:last], false, false
	first := map[string]int32{}
	for _, at := range append([]int32{account}, more...) {
		if at == None {
			continue
		}
		key := w.accounts.Key.At(int(at))
		if same, ok := first[key]; ok {
			w.same[at] = same
		} else {
			first[key] = at
		}
	}
	for i := range theirs {
		slot, ok := named[theirs[i].Key]
		if !ok {
			slot = w.slots
			w.slots++
			named[theirs[i].Key] = slot
		}
		w.keep(theirs[i], slot)
	}
}

// leaves takes the steps of the path that an account is upon; it reports false for one
// that is upon none.
func (w *walker) leaves(c Change) bool {
	if c.Account == None || !w.paths || w.ended && (c.Person == None || w.in.Stages[c.Person] != entitle.Gone) {
		return false // most accounts are upon none
	}
	if w.accounts.States[c.Account] == model.Invited && w.in.Leaving.Upon(int(w.a), int(c.Account), int(c.Person)) {
		c.Why = NothingDue
		w.add(c, model.Withdraw)
		return true
	}
	stand := w.in.Leaving.Of(int(w.a), int(c.Account), int(c.Person))
	if stand == nil {
		return false
	}
	w.stands[c.Account] = stand
	w.marks = append(w.marks, stand.Marks(c.Key)...)
	c.Why = OnPath
	for _, step := range stand.Wants() {
		switch step.Do {
		case model.DoSuspend:
			if w.accounts.Open(int(c.Account)) {
				w.add(c, model.Suspend)
			}
		case model.DoMove:
			w.move(c, step.Set)
		case model.DoHand:
			w.hand(c, &step)
		case model.DoStrip:
			for _, t := range entitle.Stripped(w.app, w.accounts, int(c.Account), &step) {
				w.lose(c, t)
			}
		case model.DoRemove:
			if w.app.Detached {
				w.strip(c)
			}
			w.add(c, model.Remove)
		}
	}
	return true
}

// hand hands over what an account owns, where the application shows what that is: to the
// account of the successor, or to "" where there is none who could take it.
func (w *walker) hand(c Change, step *model.Step) {
	n := w.app.Attr(model.Owned)
	if w.app.OwnedSplit == "" || n < 0 || w.accounts.Attrs[n] == nil {
		return
	}
	c.Attr, c.Before = int32(n), w.accounts.Attr(n, int(c.Account))
	if len(model.OwnedNames(c.Before, w.app.OwnedSplit)) == 0 {
		return
	}
	if to, why := w.in.Leaving.Successor(int(w.a), step, int(c.Person)); why == "" {
		c.After = w.accounts.Key.At(int(w.accountOf[to]))
	}
	w.add(c, model.HandOver)
}

// move sets attributes of an account, where the export shows them.
func (w *walker) move(c Change, set []model.Setting) {
	for _, s := range set {
		n := w.app.Attr(s.Attr)
		if n < 0 || w.accounts.Attrs[n] == nil {
			continue
		}
		if is := w.accounts.Attr(n, int(c.Account)); !w.accounts.Shows(n, int(c.Account), s.Value) {
			c := c
			c.Attr, c.Before, c.After = int32(n), is, s.Value
			w.add(c, model.Update)
		}
	}
}

// person compares the account that is a person's with what is due to it.
func (w *walker) person(p, account int32, due *entitle.Due) {
	c := Change{App: w.a, Person: p, Account: account, Thing: None, Attr: None}
	state := model.NoAccount
	if account != None {
		c.Key, state = w.accounts.Key.At(int(account)), w.accounts.States[account]
		if w.leaves(c) {
			return
		}
	} else if w.people != nil {
		c.Key = w.people.At(int(p))
	}
	do := w.duty(&c, due, state)
	if do.Acts && (do.Verb == model.Create || do.Verb == model.Invite) && c.Key == "" {
		// Without a value to match by there is no account to make; the
		// guard of needed attributes speaks of it.
		c.Key = w.in.People.Get(int(p), "userName")
	}
	if do.Acts && do.Verb.Effect() == model.Widens && (state == model.NoAccount || state == model.Removed) {
		if end := w.in.Leaving.Ended(int(w.a), int(account), int(p), c.Key); end != nil && end.Line > 0 {
			w.out.Ended = append(w.out.Ended, Ended{w.a, p, end})
			return // until they are off the list
		}
	}
	if state == model.Invited && !do.Acts && do.Holdings == entitle.Align && !w.invitation(c) {
		return // it is withdrawn
	}
	if do.Acts {
		w.add(c, do.Verb)
	}
	switch do.Holdings {
	case entitle.Align:
		w.bringInLine(c, due)
	case entitle.Strip:
		w.strip(c)
	}
}

// duty is what is due to an account, with why it is where that is less than it
// has.
func (w *walker) duty(c *Change, due *entitle.Due, state model.State) entitle.Duty {
	at := w.in.Stages[c.Person]
	if at == entitle.Here && len(w.app.Closed) > 0 {
		person := int(c.Person)
		if w.app.ClosedFor(func(attr string) string { return w.in.People.Get(person, attr) }, w.in.Today) != nil {
			c.Why = IsClosed
			return entitle.DutyOf(entitle.Away, due.Account(), state)
		}
	}
	if at == entitle.NotYet && state == model.NoAccount && due.Account() &&
		w.app.Leads(w.in.People.Get(int(c.Person), "starts"), w.in.Today) {
		c.Why = IsNotYet
		return entitle.Duty{Verb: model.Create, Acts: true, Holdings: entitle.Keep}
	}
	switch {
	case at != entitle.Here:
		c.Why = stageWhy[at]
	case due.Account():
		c.Why = Gives
	case due.InScope:
		c.Why = NothingDue
	default:
		c.Why = OutOfScope
	}
	do, shut := entitle.DutyOf(at, due.Account(), state).For(w.app, w.of(c.Person), w.in.Today)
	switch {
	case shut:
		c.Why = IsShut
	case do.Verb == model.Invite:
		c.Why = Invites
	}
	return do
}

// of gives the attributes of a person.
func (w *walker) of(person int32) func(attr string) string {
	return func(attr string) string { return w.in.People.Get(int(person), attr) }
}

// invitation sees to an invitation whose time is over: it is sent again or, when that was
// done often enough, withdrawn. It reports false for one that is withdrawn.
func (w *walker) invitation(c Change) bool {
	if w.in.Leaving == nil || w.app.Invites == nil {
		return true
	}
	x := w.in.Leaving.Invitation(int(w.a), int(c.Account))
	if w.in.Today < x.Expires {
		return true
	}
	c.Why = Unanswered
	if x.Sent > w.app.Invites.Again {
		w.add(c, model.Withdraw)
		return false
	}
	c.Attr, c.Before, c.After = int32(w.app.Attr(model.Sent)), strconv.Itoa(x.Sent), strconv.Itoa(x.Sent+1)
	w.add(c, model.Invite)
	return true
}

// second takes from another account of a person what is not due to them: what
// narrows reaches all of someone's accounts, and what widens none but the one
// that counts.
func (w *walker) second(p, account int32, due *entitle.Due) {
	c := Change{App: w.a, Person: p, Account: account, Key: w.accounts.Key.At(int(account)), Thing: None, Attr: None}
	if w.leaves(c) {
		return
	}
	do := w.duty(&c, due, w.accounts.States[account])
	if do.Acts && (do.Verb == model.Suspend || do.Verb == model.Withdraw) {
		w.add(c, do.Verb)
	}
	switch do.Holdings {
	case entitle.Align:
		c.Why = NotGiven
		for _, t := range w.delta(due, w.accounts.Held[account]).drop {
			w.lose(c, t)
		}
	case entitle.Strip:
		w.strip(c)
	}
}

// strip takes away all that an account holds of the catalog, but for that of which everybody has one.
func (w *walker) strip(c Change) {
	for _, t := range w.accounts.Sets.Members(w.accounts.Held[c.Account]) {
		if !w.app.Lone(t) {
			w.lose(c, t)
		}
	}
}

// distinct drops changes that do the same to accounts of the same name: two rows
// of one name are changed as one.
func distinct(changes []Change) []Change {
	type what struct {
		key         string
		verb        model.Verb
		thing, attr int32
	}
	seen := map[what]bool{}
	return slices.DeleteFunc(changes, func(c Change) bool {
		k := what{c.Key, c.Verb, c.Thing, c.Attr}
		again := seen[k]
		seen[k] = true
		return again
	})
}

// part is how many changes a part holds.
const part = 2048

func (w *walker) add(c Change, v model.Verb) {
	c.Verb = v
	if c.Def != nil {
		w.keep(c, None)
		return
	}
	w.noted = true
	w.keep(c, w.slots)
}

// keep keeps a change of the account of a number.
func (w *walker) keep(c Change, slot int32) {
	c.Slot = slot
	last := len(w.found) - 1
	if last < 0 || !w.together && len(w.found[last]) == part {
		w.found = append(w.found, make([]Change, 0, part))
		last++
	}
	w.found[last] = append(w.found[last], c)
}

func (w *walker) lose(c Change, thing int32) {
	if t := &w.app.Things[thing]; t.Others || t.Blind != nil {
		return
	}
	c.Thing = thing
	if c.Account != None {
		c.Before = w.accounts.With[model.Cell{Attr: thing, Account: c.Account}]
	}
	w.add(c, model.Losing(w.app.Things[thing].Kind))
}

// strays walks the accounts that belong to nobody. Protected ones are nobody's
// business.
func (w *walker) strays() {
	// Of one that stands twice, an open row counts.
	counts := map[string]int{}
	for i, p := range w.personOf {
		if p != None || w.accounts.States[i] == model.Removed {
			continue
		}
		key := w.accounts.Key.At(i)
		first, ok := counts[key]
		if ok && !slices.Contains(w.out.Repeated, Repeated{w.a, key}) {
			w.out.Repeated = append(w.out.Repeated, Repeated{w.a, strings.Clone(key)})
		}
		if !ok || w.accounts.Open(i) && !w.accounts.Open(first) {
			counts[key] = i
		}
	}
	for i, p := range w.personOf {
		key := w.accounts.Key.At(i)
		if p != None || w.accounts.States[i] == model.Removed || w.alone(int32(i)) {
			continue
		}
		if first := counts[key]; first != i {
			w.same[int32(i)] = int32(first)
			continue
		}
		c := Change{App: w.a, Person: None, Account: int32(i), Thing: None, Attr: None, Why: IsStray, Key: key}
		if _, protected := w.app.Protected(c.Key); protected {
			continue
		}
		if w.in.Leaving != nil && w.in.Leaving.Blocked(int(w.a), i) {
			w.marks = append(w.marks, entitle.Mark{Account: key, Step: entitle.MarkBlocked})
		}
		switch {
		case w.leaves(c):
		case w.app.StraysFor != nil && !w.app.StraysFor.Match(w.app.Says(w.accounts, i), w.in.Today):
			w.out.Strays = append(w.out.Strays, c)
		case w.app.Strays != "report" && w.accounts.States[i] == model.Invited:
			w.add(c, model.Withdraw)
		case w.app.Strays != "report" && w.accounts.Open(i):
			w.add(c, model.Suspend) // before anything is removed, it is seen blocked
		case w.app.Strays == "remove":
			if w.app.Detached {
				w.strip(c)
			}
			w.add(c, model.Remove)
		default:
			w.out.Strays = append(w.out.Strays, c)
		}
		w.next()
	}
}

// integrations makes the keys of accounts anew by which programs reach the application, in their time.
func (w *walker) integrations() {
	n := w.app.Attr(model.KeySince)
	if len(w.app.Integrations) == 0 || n < 0 || w.accounts.Attrs[n] == nil {
		return
	}
	for i := range w.accounts.Len() {
		x := w.app.Integration(w.app.Says(w.accounts, i), w.in.Today)
		if x == nil || x.Every == (day.Duration{}) || !w.accounts.Open(i) {
			continue
		}
		since := w.accounts.Attr(n, i)
		if !model.Aged(since, x.Every, w.in.Today) {
			continue
		}
		c := Change{
			App: w.a, Person: None, Account: int32(i), Thing: None, Attr: int32(n), Why: KeyIsOld, Key: w.accounts.Key.At(i),
			Before: since, After: w.in.Today.String(),
		}
		w.add(c, model.Update)
		w.next()
	}
}

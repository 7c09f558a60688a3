package model

import (
	"slices"
	"sort"

	"pravet/internal/core/day"
	"pravet/internal/core/filter"
	"pravet/internal/core/table"
)

// An App is a business application as its file describes it.
type App struct {
	ID, Title, Owner string
	Pos              Pos

	Match    string // the account attribute that tells whose account it is
	Folds    bool   // names that differ in case alone are one name, and the application writes them as it likes
	EndsAll  bool   // to suspend an account ends what is open in its name, too
	Longest  int    // how long an account's name may be, in bytes; 0 for MaxName
	Scope    *filter.Filter
	ScopePos Pos
	Attrs    []Attr // the account attributes that Pravet keeps, in file order

	Things []Thing // the catalog, sorted by kind and name

	// Effective tells of which kinds the export shows all that an account has in
	// the end, and not only what it holds directly.
	Effective [Kinds]bool
	// One tells of which kinds everybody has exactly one thing: to get another is to lose the first.
	One     [Kinds]bool
	Usual   [Kinds]string // of those, the thing that an account has to which no kit gives one; "" for none
	OnePos  [Kinds]Pos
	Tidy    bool // take away what something else brings along
	TidyPos Pos

	Closed     []Closing
	Lead       day.Duration // how long before the first day an account is made, blocked
	Restores   day.Duration // how long a removed account can be restored; zero: not at all
	Invites    *Invitation  // nil where accounts are made without asking
	InvitesFor *filter.Filter
	ByHand     bool // an account is made blocked, and somebody must say that it is opened
	ByHandFor  *filter.Filter
	OwnedSplit string     // what separates the names of what an account owns, where those can be handed over; or ""
	Detached   bool       // a removal needs that nothing hangs on the account any more
	Keys       *Keys      // nil where nobody's key is made anew
	Passwords  Pos        // where it says that new accounts get a first password; zero where it does not
	Promote    *Promotion // nil where nothing has to be tried elsewhere first
	Protect    []Name
	Alone      []Name // accounts that nothing happens to until somebody decides
	ProtectBy  []Pattern
	AloneBy    []Pattern
	// Integrations are accounts by which programs reach the application: nobody's, and never suspended with anybody.
	Integrations []Integration
	StraysFor    *filter.Filter // of accounts: those of nobody that Strays is about; nil for all
	Strays       string         // report, suspend or remove
	StraysPos    Pos
	Guards       Guards
	catalog      [Kinds]map[string]int32
	protect      map[string]Pos
	alone        map[string]Pos
	attrByName   map[string]int
}

// A Pattern is a filter over the attributes of accounts.
type Pattern struct {
	Filter *filter.Filter
	Not    bool   // the accounts that the filter does not fit
	Under  string // the key that it stands under
	Pos    Pos
}

// An Integration is an account of programs, or several: they are left alone but for their keys.
type Integration struct {
	Filter *filter.Filter // of accounts
	Owner  string         // the id of who answers for them
	Every  day.Duration   // how old a key may be; zero where keys are nobody's business
	Pos    Pos
}

// Integration is the entry that an account falls under, nil where it falls under none.
func (a *App) Integration(get func(attr string) string, today day.Day) *Integration {
	for i := range a.Integrations {
		if x := &a.Integrations[i]; x.Filter != nil && x.Filter.Match(get, today) {
			return x
		}
	}
	return nil
}

// Renews reports whether the application's file asks for keys to be made anew.
func (a *App) Renews() bool { return a.RenewsAt() != (Pos{}) }

// RenewsAt is where it asks that.
func (a *App) RenewsAt() Pos {
	if a.Keys != nil {
		return a.Keys.Pos
	}
	for i := range a.Integrations {
		if x := &a.Integrations[i]; x.Every != (day.Duration{}) {
			return x.Pos
		}
	}
	return Pos{}
}

// A Promotion says where the same desired state must have been carried out before it is here,
// and how long ago at the most.
type Promotion struct {
	From   string // an environment
	Within day.Duration
	Pos    Pos
}

// KeySince is the account attribute that tells since when an account has its key.
const KeySince = "keySince"

// Keys are those of accounts that programs sign in with: they are made anew in time.
type Keys struct {
	For   *filter.Filter
	Every day.Duration
	Pos   Pos
}

// NewPassword is the attribute of a person that asks for a new first password from a day on.
const NewPassword = "newPassword"

// Asked is the day from which on a person is to have a new first password, if one is due to an account whose password is of
// since: one of that very day is new enough.
func (a *App) Asked(get func(attr string) string, since string, today day.Day) (on string, due bool) {
	if a.Passwords == (Pos{}) {
		return "", false
	}
	on = get(NewPassword)
	from, err := day.Parse(on)
	if err != nil || from > today {
		return on, false
	}
	has, err := day.Parse(since[:min(len(since), len("2006-01-02"))])
	return on, err != nil || has < from
}

// Due reports whether the key of somebody's account is to be made anew on a day; since is the
// value of KeySince, and a key of which nobody knows how old it is counts as old.
func (k *Keys) Due(get func(attr string) string, since string, today day.Day) bool {
	if !k.For.Match(get, today) {
		return false
	}
	return Aged(since, k.Every, today)
}

// Aged reports whether a key of a day is too old on another; one of which nobody knows the day is.
func Aged(since string, every day.Duration, today day.Day) bool {
	from, err := day.Parse(since[:min(len(since), len("2006-01-02"))])
	return err != nil || from.Add(every) <= today
}

// A Closing is a range of days on which only some people may sign in to an application.
type Closing struct {
	From, To day.Day // both count
	But      *filter.Filter
	Because  string
	Pos      Pos
}

// ClosedFor is what keeps a person out of the application on a day, nil where nothing
// does; get gives the person's attributes.
func (a *App) ClosedFor(get func(attr string) string, today day.Day) *Closing {
	for i := range a.Closed {
		if c := &a.Closed[i]; c.From <= today && today <= c.To && (c.But == nil || !c.But.Match(get, today)) {
			return c
		}
	}
	return nil
}

// AreInvited reports whether somebody is invited, instead of being given an account; get gives the person's attributes.
func (a *App) AreInvited(get func(attr string) string, today day.Day) bool {
	return a.Invites != nil && (a.InvitesFor == nil || a.InvitesFor.Match(get, today))
}

// OpenedByHand reports whether somebody must say that a person's account is opened.
func (a *App) OpenedByHand(get func(attr string) string, today day.Day) bool {
	return a.ByHand && (a.ByHandFor == nil || a.ByHandFor.Match(get, today))
}

// Leads reports whether somebody whose first day is starts gets an account ahead by now.
func (a *App) Leads(starts string, today day.Day) bool {
	if a.Lead == (day.Duration{}) {
		return false
	}
	first, err := day.Parse(starts)
	return err == nil && first <= today.Add(a.Lead)
}

// A Name is a word of a file and its place.
type Name struct {
	Text string
	Pos  Pos
}

// An Attr is an account attribute and the person attribute it follows; Person
// is "" for one that only kits set.
type Attr struct {
	Name, Person string
	Fixed        bool // cannot be changed once the account exists
	Observed     bool // only looked at: it tells of the account, and changes by itself
	Pos          Pos
}

// A Binding is the thing of another application that a thing follows.
type Binding struct {
	App, Name string
	Kind      Kind
	Pos       Pos
}

func (b *Binding) String() string { return b.App + "/" + b.Kind.String() + "/" + b.Name }

// A Thing is one entry of a catalog.
type Thing struct {
	Kind      Kind
	Name      string
	Title     string
	Pos       Pos
	Sensitive bool
	Insiders  bool     // never an outsider's
	AtLeast   int      // how many active holders must stay
	Seats     int      // how many seats were bought; -1 for no limit
	Price     Price    // per seat
	Needs     []string // account attributes that must have a value first
	Implies   []int32  // what it brings or includes, directly

	Others      bool     // it is given and taken by others, and only looked at
	Blind       *Binding // of whom nobody can tell now who has it, so that this stays as it is; nil otherwise
	Follows     *Binding // who has it are those who have another thing in another application; nil where kits say so alone
	Define      bool     // Pravet's own: kept as the catalog has it
	Retire      bool     // its definition is to go
	Permissions []string // plain strings of the application
}

// String is a thing in words, without its application: role seller.
func (t *Thing) String() string { return t.Kind.String() + " " + t.Name }

// Index makes things, attributes and protected accounts findable. It is
// called once, when the application is complete, and sorts the catalog; the
// numbers in Implies are given by name before and resolved by the caller.
func (a *App) Index() {
	sort.SliceStable(a.Things, func(i, j int) bool {
		if a.Things[i].Kind != a.Things[j].Kind {
			return compareKinds(a.Things[i].Kind, a.Things[j].Kind) < 0
		}
		return a.Things[i].Name < a.Things[j].Name
	})
	for k := range a.catalog {
		a.catalog[k] = map[string]int32{}
	}
	for i, t := range a.Things {
		a.catalog[t.Kind][t.Name] = int32(i)
	}
	a.protect = map[string]Pos{}
	for _, p := range a.Protect {
		a.protect[table.Fold(p.Text)] = p.Pos
	}
	a.alone = map[string]Pos{}
	for _, p := range a.Alone {
		a.alone[table.Fold(p.Text)] = p.Pos
	}
	a.attrByName = map[string]int{}
	for i, at := range a.Attrs {
		a.attrByName[at.Name] = i
	}
}

// Thing finds a thing of the catalog by its exact name, or -1.
func (a *App) Thing(k Kind, name string) int32 {
	if i, ok := a.catalog[k][name]; ok {
		return i
	}
	return -1
}

// Lone reports whether everybody has exactly one of a thing's kind: it goes when another comes, and is never only taken
// away.
func (a *App) Lone(thing int32) bool { return a.One[a.Things[thing].Kind] }

// ForInsiders reports whether a thing is for insiders only, or brings along what is.
func (a *App) ForInsiders(g *Graph, thing int32) bool {
	return a.Things[thing].Insiders ||
		slices.ContainsFunc(g.Along(thing), func(t int32) bool { return a.Things[t].Insiders })
}

// UsualThing is the thing that an account has of a kind to which no kit gives one, -1 for none.
func (a *App) UsualThing(k Kind) int32 {
	if a.Usual[k] == "" {
		return -1
	}
	return a.Thing(k, a.Usual[k])
}

// Instead is the default that comes for a thing of which everybody has one and that somebody is not to have, -1 where
// there is none that they may have.
func (a *App) Instead(thing int32) int32 {
	if t := a.UsualThing(a.Things[thing].Kind); a.Lone(thing) && t >= 0 && t != thing && !a.Things[t].Insiders {
		return t
	}
	return -1
}

// Rivals are the other things of a thing's kind that are in a set, if everybody has exactly one of
// that kind: they go when the thing comes.
func (a *App) Rivals(sets *Sets, set uint32, thing int32) (out []int32) {
	kind := a.Things[thing].Kind
	if !a.One[kind] {
		return nil
	}
	for _, t := range sets.Members(set) {
		if t != thing && a.Things[t].Kind == kind {
			out = append(out, t)
		}
	}
	return out
}

// Gain is a set with a thing in it, and without its rivals.
func (a *App) Gain(sets *Sets, set uint32, thing int32) uint32 {
	for _, t := range a.Rivals(sets, set, thing) {
		set = sets.Without(set, t)
	}
	return sets.With(set, thing)
}

// Address is a thing as it is spoken of from outside.
func (a *App) Address(thing int32) Address {
	t := &a.Things[thing]
	return Address{a.ID, t.Kind.String(), t.Name}
}

// Kinds lists the kinds of things that the catalog has, each once, in its order.
func (a *App) Kinds() (out []Kind) {
	for _, t := range a.Things {
		if len(out) == 0 || out[len(out)-1] != t.Kind {
			out = append(out, t.Kind)
		}
	}
	return out
}

// Names lists the catalog's names of one kind, sorted.
func (a *App) Names(k Kind) []string {
	var out []string
	for _, t := range a.Things {
		if t.Kind == k {
			out = append(out, t.Name)
		}
	}
	return out
}

// Protected reports whether no plan may touch an account, and where that is said.
func (a *App) Protected(account string) (Pos, bool) {
	p, ok := a.protect[table.Fold(account)]
	return p, ok
}

// IsAlone reports whether nothing happens to an account until somebody decides, and where that
// is said.
func (a *App) IsAlone(account string) (Pos, bool) {
	if len(a.alone) == 0 {
		return Pos{}, false
	}
	p, ok := a.alone[table.Fold(account)]
	return p, ok
}

// Select finds the accounts that are protected or left alone by a pattern, before anybody asks Protected or
// IsAlone; it names the patterns that no account fits. O(accounts · patterns).
func (a *App) Select(accounts *Accounts, today day.Day) (idle []Pattern) {
	find := func(patterns []Pattern, into map[string]Pos) {
		for _, p := range patterns {
			found := false
			for i := range accounts.Key.Len() {
				if p.Filter != nil && p.Filter.Match(a.Says(accounts, i), today) != p.Not {
					into[table.Fold(accounts.Key.At(i))], found = p.Pos, true
				}
			}
			if !found && !p.Not {
				idle = append(idle, p)
			}
		}
	}
	find(a.ProtectBy, a.protect)
	find(a.AloneBy, a.alone)
	return idle
}

// Says gives the attributes of an account by name, with none for what Pravet does not keep.
func (a *App) Says(accounts *Accounts, account int) func(attr string) string {
	return func(attr string) string {
		if n := a.Attr(attr); n >= 0 {
			return accounts.Attr(n, account)
		}
		if attr == a.Match {
			return accounts.Key.At(account)
		}
		return ""
	}
}

// Attr finds an account attribute that Pravet keeps, or -1.
func (a *App) Attr(name string) int {
	if i, ok := a.attrByName[name]; ok {
		return i
	}
	return -1
}

// MatchPerson is the person attribute that is compared with Match.
func (a *App) MatchPerson() string {
	if i := a.Attr(a.Match); i >= 0 && a.Attrs[i].Person != "" {
		return a.Attrs[i].Person
	}
	return a.Match
}

// Outsiders are people who are with the organization for a time, and for whom somebody
// answers.
type Outsiders struct {
	For  *filter.Filter // nil where there are none
	Term day.Duration   // how far ahead their last day may be
	Pos  Pos
}

// Are reports whether a person is one of them.
func (o *Outsiders) Are(get func(attr string) string, today day.Day) bool {
	return o != nil && o.For != nil && o.For.Match(get, today)
}

// An AppThing is a thing of one application, by numbers.
type AppThing struct {
	App   int
	Thing int32
}

// LongestName is how long an account's name may be, in bytes.
func (a *App) LongestName() int {
	if a.Longest > 0 {
		return a.Longest
	}
	return MaxName
}

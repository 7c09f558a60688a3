package guard

import (
	"pravet/internal/core/day"
	"pravet/internal/core/fact"
	"pravet/internal/core/model"
	"pravet/internal/core/table"
)

// The guards of this file.
const (
	RemovalWait = "removal-wait"
	Owns        = "owns"
	Successor   = "successor"
	Keeping     = "kept"
)

var endingsFamily = family{
	guards: []Guard{
		{
			Name: RemovalWait, Lift: ForChange,
			Raises: []fact.Kind{fact.NotBlocked, fact.BlockedLately},
			Holds: "the removal of an account that has not been seen blocked for long enough; see " +
				"[leaving.md](leaving.md)",
			Limit: "`removalWait: P7D`",
		},
		{
			Name: Owns, Lift: ForChange,
			Raises: []fact.Kind{fact.StillOwns},
			Holds: "the removal of an account that still owns something, as the column `owned` of the export " +
				"shows",
		},
		{
			Name: Successor, Lift: Never,
			Raises: []fact.Kind{fact.NoSuccessor},
			Holds: "a hand-over to nobody: the successor is missing, away, gone, out of the scope or without an " +
				"open account",
		},
		{
			Name: Keeping, Lift: Never,
			Raises: []fact.Kind{fact.KeptBack},
			Holds:  "the removal of what standing.yaml keeps",
		},
	},
	each: (*checker).removals,
}

// removals holds what cannot be undone: of an account that has not been seen blocked for
// long enough, that still owns something, or that is kept.
func (c *checker) removals(a int) {
	wait := c.Limits[a].RemovalWait
	for _, i := range c.byApp[a] {
		ch := &c.Changes[i]
		if ch.Verb == model.HandOver && ch.After == "" {
			c.heir(i)
		}
		if ch.Verb != model.Remove {
			continue
		}
		if wait != (day.Duration{}) && c.Leaving != nil {
			since, known := c.Leaving.Suspended(a, int(ch.Account), int(ch.Person))
			switch {
			case !known:
				c.hold(i, RemovalWait, fact.Fact{Kind: fact.NotBlocked, Account: ch.Key, Limit: wait.Words()})
			case since.Add(wait) > c.Today:
				c.hold(i, RemovalWait, fact.Fact{
					Kind: fact.BlockedLately, Account: ch.Key, On: since.String(), Limit: wait.Words(),
					Until: since.Add(wait).String(),
				})
			}
		}
		if owned, _ := c.Apps[a].Owns(c.Accounts[a], int(ch.Account)); owned > 0 {
			c.hold(i, Owns, fact.Fact{Kind: fact.StillOwns, Account: ch.Key, Count: owned})
		}
		for n := range c.Kept {
			if k := &c.Kept[n]; k.On(c.Today) && c.keeps(k, a, int(ch.Account), int(ch.Person)) {
				c.hold(i, Keeping, fact.Fact{
					Kind: fact.KeptBack, Account: ch.Key, Because: k.Because, Until: k.Until.String(), Place: k.Pos.String(),
				})
				break
			}
		}
	}
}

// heir holds a hand-over to nobody, and says why there is nobody.
func (c *checker) heir(i int) {
	ch := &c.Changes[i]
	for _, step := range c.Diff.Stands[ch.App][ch.Account].Wants() {
		if step.Do == model.DoHand {
			_, why := c.Leaving.Successor(int(ch.App), &step, int(ch.Person))
			c.hold(
				i,
				Successor,
				fact.Fact{Kind: fact.NoSuccessor, Account: ch.Key, Because: why, Place: step.Pos.String()},
			)
		}
	}
}

// keeps reports whether an entry of standing.yaml is about an account.
func (c *checker) keeps(k *model.Kept, a, account, person int) bool {
	switch {
	case k.Account != "":
		return k.App == c.Apps[a].ID && table.Fold(k.Account) == table.Fold(c.Accounts[a].Key.At(account))
	case person < 0:
		return false
	case k.Person != "":
		return k.Person == c.People.Get(person, "id")
	}
	return k.For != nil && k.For.Match(func(attr string) string { return c.People.Get(person, attr) }, c.Today)
}

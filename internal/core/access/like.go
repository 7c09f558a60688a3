package access

import (
	"slices"

	"pravet/internal/core/entitle"
)

// A Likeness is what one person has and another lacks, by kits.
type Likeness struct {
	Kits []LikeKit // that the other could hold by name, with the most to give first
	Rule []LikeKit // that the first has by a rule that does not match the other
	Rest []string  // things that the first has and no kit gives, by address
}

// A LikeKit is a kit that one person holds and another does not.
type LikeKit struct {
	Number    int // among the kits
	Kit       string
	Title     string
	Rule      string   // in words; "" for one that is held by name only
	Gives     []string // what the other would gain by it, by address
	Sensitive []string // of that
}

// Like says what a person lacks to have what another has. Kits that the first holds by a rule
// are told apart: there, it is the other's attributes that differ. O(kits · things).
func (v *View) Like(first, other int) *Likeness {
	out := &Likeness{}
	held := func(p int) map[int]entitle.Held {
		m := map[int]entitle.Held{}
		for _, h := range v.Due.Classes[v.Due.Of[p]].Kits {
			m[h.Kit] = h
		}
		return m
	}
	theirs, given := held(other), map[string]bool{}
	for n, h := range held(first) {
		k := v.Kits[n]
		lk := LikeKit{Number: n, Kit: k.Name, Title: k.Title}
		if k.HasRule() {
			lk.Rule = k.Rule()
		}
		for _, g := range k.Gives {
			set, _ := v.Should(other, g.App)
			for _, t := range g.Things {
				address := v.Apps[g.App].Address(t).String()
				given[address] = true
				if v.Sets[g.App].Has(set, t) || v.Sets[g.App].Has(v.has(other, g.App), t) {
					continue
				}
				lk.Gives = append(lk.Gives, address)
				if v.Apps[g.App].Things[t].Sensitive {
					lk.Sensitive = append(lk.Sensitive, address)
				}
			}
		}
		if _, both := theirs[n]; both || len(lk.Gives) == 0 || h.With >= 0 {
			continue
		}
		if h.Holder != nil {
			out.Kits = append(out.Kits, lk)
		} else {
			out.Rule = append(out.Rule, lk)
		}
	}
	for a, app := range v.Apps {
		if v.AccountOf[a] == nil {
			continue
		}
		for _, t := range v.Sets[a].Members(v.has(first, a)) {
			address := app.Address(t).String()
			if !given[address] && !v.Sets[a].Has(v.has(other, a), t) && !v.givenTo(first, a, t) {
				out.Rest = append(out.Rest, address)
			}
		}
	}
	byGain := func(x, y LikeKit) int {
		if d := len(y.Gives) - len(x.Gives); d != 0 {
			return d
		}
		return x.Number - y.Number
	}
	slices.SortFunc(out.Kits, byGain)
	slices.SortFunc(out.Rule, byGain)
	slices.Sort(out.Rest)
	return out
}

// givenTo reports whether somebody should have a thing in the end.
func (v *View) givenTo(p, app int, t int32) bool {
	set, _ := v.Should(p, app)
	return v.Sets[app].Has(set, t)
}

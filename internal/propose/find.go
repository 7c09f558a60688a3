package propose

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"pravet/internal/core/filter"
	"pravet/internal/core/model"
	"pravet/internal/core/table"
)

// Input is what rules are found in.
type Input struct {
	People *model.People
	Here   func(p int) bool // who is here today; of others nobody is asked
	Things []Thing
	Sure   float64 // how many of those whom a rule matches hold the thing at the least, 0 to 1
	Least  int     // of how many people a rule is made at the least
}

// A Thing is held by people, and no rule says why yet.
type Thing struct {
	model.AppThing
	Sensitive bool
	Holders   []int // people who hold it and get it by no rule, sorted
	Ruled     []int // people who get it by a rule already, sorted
}

// A Condition is an attribute and its value.
type Condition struct{ Attr, Value string }

// A Kit is a rule that was found.
type Kit struct {
	For       []Condition // all of them hold; none for everyone
	Things    []int       // numbers in Input.Things
	Explains  int         // holdings
	Holders   []int       // people whom it matches and who hold all of it, sorted
	Lacking   []int       // people whom it matches, who are here and lack some of it: they are its exceptions
	Sure      float64     // the lower end of what the share of those who hold it may be, 0 to 1
	Sensitive bool

	// Not is what all have in common whom the rule would match and who lack some of it, and no holder has: with it the rule
	// is narrower, and Spared of them are no exceptions. Nil where they have nothing in common.
	Not    *Condition
	Spared int
	// Shared is what most of the exceptions have in common, and some holders have as well; Sharing is how many of them have it.
	Shared  *Condition
	Sharing int
}

// Wider is the rule without what makes it narrower.
func (k *Kit) Wider() string {
	wide := *k
	wide.Not = nil
	return wide.Filter()
}

// Filter is the rule as files have it; "" for everyone.
func (k *Kit) Filter() string {
	var parts []string
	for _, c := range k.For {
		parts = append(parts, c.Attr+" eq "+filter.Quote(c.Value))
	}
	if k.Not != nil {
		parts = append(parts, "not ("+k.Not.Attr+" eq "+filter.Quote(k.Not.Value)+")")
	}
	return strings.Join(parts, " and ")
}

// Limits of the search.
const (
	mostValues = 2000 // distinct values of an attribute that rules are made of
	leastShare = 3    // people with the same value, on average
)

// personal are attributes that are somebody's own, and days; rules are not made of them.
var personal = []string{
	"id", "userName", "displayName", "name.givenName", "name.familyName", "name.middleName", "name.formatted", "nickName",
	"email", "phone", "employeeNumber", "externalId", "profileUrl", "formerly",
	"starts", "ends", "away", "away.from", "away.to",
}

// Find finds rules: of one condition where that says enough, else of two. The cost is that of
// people · attributes² + holdings · attributes², and no more for many things.
func Find(in Input) []Kit {
	f := &finder{Input: in}
	f.attributes()
	rules := map[string]*rule{}
	var order []string
	for t := range in.Things {
		for _, r := range f.rulesFor(t) {
			key := r.key()
			if rules[key] == nil {
				rules[key] = r
				order = append(order, key)
			}
			rules[key].things = append(rules[key].things, t)
		}
	}
	var out []Kit
	for _, key := range order {
		out = append(out, f.kits(rules[key])...)
	}
	slices.SortStableFunc(out, func(x, y Kit) int {
		return cmp.Or(cmp.Compare(y.Explains, x.Explains), cmp.Compare(x.Filter(), y.Filter()))
	})
	return out
}

// An attribute is one that rules are made of: each person's value as a number.
type attribute struct {
	name   string
	values []string
	codes  []int32 // person → value, -1 for none
	counts []int   // value → how many people who are here
	people [][]int // value → those
}

type finder struct {
	Input
	attrs []attribute
	pairs map[[2]int]map[[2]int32]int // attributes → values → how many people who are here have both
	here  []int
}

// attributes finds those that many people have the same value of.
func (f *finder) attributes() {
	for p := range f.People.Len() {
		if f.Here(p) {
			f.here = append(f.here, p)
		}
	}
	for _, name := range f.People.Attributes() {
		if slices.ContainsFunc(personal, func(x string) bool { return strings.EqualFold(x, name) }) {
			continue
		}
		a := attribute{name: name, codes: make([]int32, f.People.Len())}
		numbers := map[string]int32{}
		col := f.People.Column(name)
		for p := range a.codes {
			v := col.At(p)
			if v == "" {
				a.codes[p] = -1
				continue
			}
			key := table.Fold(v)
			n, ok := numbers[key]
			if !ok {
				n = int32(len(a.values))
				numbers[key] = n
				a.values = append(a.values, v)
				if len(a.values) > mostValues {
					break
				}
			}
			a.codes[p] = n
		}
		if len(a.values) == 0 || len(a.values) > mostValues ||
			len(a.values)*leastShare > len(f.here) && len(f.here) > 10 {
			continue
		}
		a.counts, a.people = make([]int, len(a.values)), make([][]int, len(a.values))
		for _, p := range f.here {
			if v := a.codes[p]; v >= 0 {
				a.counts[v]++
				a.people[v] = append(a.people[v], p)
			}
		}
		f.attrs = append(f.attrs, a)
	}
	f.pairs = map[[2]int]map[[2]int32]int{}
}

// both counts the people who are here by their values of two attributes.
func (f *finder) both(a, b int) map[[2]int32]int {
	key := [2]int{a, b}
	if m := f.pairs[key]; m != nil {
		return m
	}
	m := map[[2]int32]int{}
	for _, p := range f.here {
		if x, y := f.attrs[a].codes[p], f.attrs[b].codes[p]; x >= 0 && y >= 0 {
			m[[2]int32{x, y}]++
		}
	}
	f.pairs[key] = m
	return m
}

// A rule is up to two values of attributes.
type rule struct {
	attrs  []int
	values []int32
	things []int
}

func (r *rule) key() string { return fmt.Sprint(r.attrs, r.values) }

func (f *finder) matches(r *rule, p int) bool {
	for i, a := range r.attrs {
		if f.attrs[a].codes[p] != r.values[i] {
			return false
		}
	}
	return true
}

// rulesFor finds the rules for one thing: of those that are sure enough the ones that explain
// the most first, singles before pairs. What one explains, or matched in vain, counts for no
// other.
func (f *finder) rulesFor(t int) []*rule {
	s := &search{finder: f, gone: map[int]bool{}, holds: map[int]bool{}}
	for _, p := range f.Things[t].Ruled {
		s.gone[p] = true
	}
	for _, p := range f.Things[t].Holders {
		if f.Here(p) && !s.gone[p] {
			s.holds[p] = true
			s.left = append(s.left, p)
		}
	}
	if len(s.left) < f.Least {
		return nil
	}
	if len(s.gone) == 0 && share(len(s.left), len(f.here)) >= f.Sure {
		return []*rule{{}}
	}
	s.try(s.singles())
	if len(s.left) >= f.Least {
		s.try(s.pairs())
	}
	return s.out
}

// A search is for the rules of one thing.
type search struct {
	*finder
	left  []int        // holders whom no rule explains yet
	holds map[int]bool // all holders
	gone  map[int]bool // people who do not count any more
	out   []*rule
}

// A candidate is a rule and how many holders it would explain.
type candidate struct {
	r *rule
	n int
}

// singles are the values that may be a rule.
func (s *search) singles() (out []candidate) {
	for a := range s.attrs {
		counts := make([]int, len(s.attrs[a].values))
		for _, p := range s.left {
			if v := s.attrs[a].codes[p]; v >= 0 {
				counts[v]++
			}
		}
		for v, n := range counts {
			if n >= s.Least && share(n, s.attrs[a].counts[v]) >= s.Sure/2 {
				out = append(out, candidate{&rule{attrs: []int{a}, values: []int32{int32(v)}}, n})
			}
		}
	}
	return out
}

// pairs are the pairs of values that may be a rule.
func (s *search) pairs() (out []candidate) {
	for a := range s.attrs {
		for b := a + 1; b < len(s.attrs); b++ {
			counts := map[[2]int32]int{}
			for _, p := range s.left {
				if x, y := s.attrs[a].codes[p], s.attrs[b].codes[p]; x >= 0 && y >= 0 {
					counts[[2]int32{x, y}]++
				}
			}
			all := s.both(a, b)
			for key, n := range counts {
				if n >= s.Least && share(n, all[key]) >= s.Sure/2 {
					out = append(out, candidate{&rule{attrs: []int{a, b}, values: []int32{key[0], key[1]}}, n})
				}
			}
		}
	}
	return out
}

// try takes the candidates that are sure enough of those who are left, the largest first.
func (s *search) try(all []candidate) {
	slices.SortFunc(all, func(x, y candidate) int {
		return cmp.Or(
			cmp.Compare(y.n, x.n),
			slices.Compare(x.r.attrs, y.r.attrs),
			slices.Compare(x.r.values, y.r.values),
		)
	})
	for _, c := range all {
		var has, lacks []int
		for _, p := range s.among(c.r) {
			switch {
			case s.gone[p] || !s.matches(c.r, p):
			case s.holds[p]:
				has = append(has, p)
			default:
				lacks = append(lacks, p)
			}
		}
		if len(has) < s.Least || share(len(has), len(has)+len(lacks)) < s.Sure {
			continue
		}
		s.out = append(s.out, c.r)
		for _, p := range has {
			s.gone[p] = true
		}
		for _, p := range lacks {
			s.gone[p] = true
		}
	}
	s.left = slices.DeleteFunc(s.left, func(p int) bool { return s.gone[p] })
}

// among are people who are here, all whom a rule matches among them.
func (f *finder) among(r *rule) []int {
	best := f.attrs[r.attrs[0]].people[r.values[0]]
	for i := range r.attrs[1:] {
		if other := f.attrs[r.attrs[i+1]].people[r.values[i+1]]; len(other) < len(best) {
			best = other
		}
	}
	return best
}

func share(n, of int) float64 {
	if of <= 0 {
		return 0
	}
	return float64(n) / float64(of)
}

// kits parts the things of one rule into kits: things that the same people hold come together,
// others apart, so that few are exceptions. The most held thing leads.
func (f *finder) kits(r *rule) []Kit {
	var matched []int
	for p := range f.People.Len() {
		if f.matches(r, p) {
			matched = append(matched, p)
		}
	}
	holders := map[int]map[int]bool{}
	for _, t := range r.things {
		holders[t] = map[int]bool{}
		for _, list := range [][]int{f.Things[t].Holders, f.Things[t].Ruled} {
			for _, p := range list {
				if f.matches(r, p) {
					holders[t][p] = true
				}
			}
		}
	}
	left := slices.Clone(r.things)
	slices.SortStableFunc(left, func(x, y int) int { return len(holders[y]) - len(holders[x]) })
	var out []Kit
	for len(left) > 0 {
		k := Kit{}
		for i, a := range r.attrs {
			k.For = append(k.For, Condition{f.attrs[a].name, f.attrs[a].values[r.values[i]]})
		}
		has := holders[left[0]]
		var rest []int
		for _, t := range left {
			both := map[int]bool{}
			for p := range has {
				if holders[t][p] {
					both[p] = true
				}
			}
			// What is sensitive stands in a kit of its own, so that it is decided about by itself.
			alone := f.Things[t].Sensitive || len(k.Things) > 0 && f.Things[k.Things[0]].Sensitive
			if len(k.Things) > 0 && (alone || float64(len(both)) < f.Sure*float64(len(has))) {
				rest = append(rest, t)
				continue
			}
			k.Things, has = append(k.Things, t), both
			k.Sensitive = k.Sensitive || f.Things[t].Sensitive
		}
		left = rest
		here := 0
		for _, p := range matched {
			switch {
			case has[p]:
				k.Holders = append(k.Holders, p)
				here++
			case f.Here(p):
				k.Lacking = append(k.Lacking, p)
				here++
			case k.Sensitive: // whoever is to come gets nothing sensitive by a rule that was only found
				k.Lacking = append(k.Lacking, p)
			}
		}
		here -= f.narrow(&k)
		slices.Sort(k.Things)
		k.Explains = len(k.Holders) * len(k.Things)
		k.Sure = lower(len(k.Holders), here)
		if len(k.Holders) >= f.Least {
			out = append(out, k)
		}
	}
	return out
}

// leastAlike is how many exceptions must have something in common for that to say anything: two of them may by chance.
const leastAlike = 3

// narrow looks at what the exceptions of a rule have in common: where no holder has it, the rule is made narrower by it. It returns
// how many people who are here the rule matches no more.
func (f *finder) narrow(k *Kit) (spared int) {
	if len(k.Lacking) < leastAlike {
		return 0
	}
	for a := range f.attrs {
		attr := &f.attrs[a]
		if slices.ContainsFunc(k.For, func(c Condition) bool { return c.Attr == attr.name }) {
			continue
		}
		counts := map[int32]int{}
		for _, p := range k.Lacking {
			if v := attr.codes[p]; v >= 0 {
				counts[v]++
			}
		}
		for v, n := range counts {
			if n < leastAlike || n*2 <= len(k.Lacking) {
				continue
			}
			held := slices.ContainsFunc(k.Holders, func(p int) bool { return attr.codes[p] == v })
			c := &Condition{attr.name, attr.values[v]}
			if n == len(k.Lacking) && !held && k.Not == nil {
				k.Not, k.Spared = c, n
			}
			if n > k.Sharing {
				k.Shared, k.Sharing = c, n
			}
		}
	}
	if k.Not == nil {
		return 0
	}
	for _, p := range k.Lacking {
		if f.Here(p) {
			spared++
		}
	}
	k.Lacking, k.Shared, k.Sharing = nil, nil, 0
	return spared
}

// lower is the lower end of the Wilson score interval of a share, at 95 %: what is known of few
// is less sure (Wilson 1927, "Probable inference, the law of succession, and statistical
// inference").
func lower(n, of int) float64 {
	if of == 0 {
		return 0
	}
	const z = 1.96
	p, m := float64(n)/float64(of), float64(of)
	return (p + z*z/(2*m) - z*math.Sqrt(p*(1-p)/m+z*z/(4*m*m))) / (1 + z*z/m)
}

package export

import (
	"slices"
	"strings"

	"pravet/internal/core/model"
)

// A scimGroup is a group as the export shows it.
type scimGroup struct {
	thing   int32 // or -1 for one outside the catalog
	id      string
	name    string
	members []Reference
}

func (r *scimReader) group(v Value) error {
	if len(r.groups) == 0 {
		// Groups list their members themselves; what users say of their
		// groups only repeats it (RFC 7643 §4.1.2).
		r.b.dropKind(model.Group)
		r.b.out.Defined[model.Group] = []string{}
	}
	name, err := v.Name("displayName", "id")
	if err != nil {
		return err
	}
	id, err := v.Name("id", "displayName")
	if err != nil {
		return err
	}
	members, err := References(v)
	if err != nil {
		return err
	}
	for i := range members {
		members[i] = Reference{ID: strings.Clone(members[i].ID), Group: members[i].Group}
	}
	r.groups = append(r.groups, scimGroup{
		thing:   r.b.app.Thing(model.Group, name),
		id:      strings.Clone(id),
		name:    strings.Clone(name),
		members: members,
	})
	r.b.out.Defined[model.Group] = append(r.b.out.Defined[model.Group], strings.Clone(name))
	return nil
}

// dropKind takes all holdings of a kind away again.
func (b *builder) dropKind(kind model.Kind) {
	sets := b.out.Sets
	for i, held := range b.out.Held {
		for _, t := range sets.Members(held) {
			if b.app.Things[t].Kind == kind {
				held = sets.Without(held, t)
			}
		}
		b.out.Held[i] = held
	}
	b.cells[kind] = map[string]*cell{}
}

// finish adds the members of groups, and checks that no page is missing.
func (r *scimReader) finish() error {
	if err := r.complete(); err != nil {
		return err
	}
	if r.lists == 0 {
		r.b.out.Closed = "the export is a single user, and no list that another could be added to"
	}
	byID := map[string]int{}
	for i, g := range r.groups {
		byID[g.id] = i
	}
	parents := map[int][]int{}
	gains := make([][]int32, r.b.count) // account → groups
	for i, g := range r.groups {
		for _, m := range g.members {
			account, isUser := r.users[m.ID]
			child, isGroup := byID[m.ID]
			switch {
			case isGroup && (m.Group || !isUser):
				parents[child] = append(parents[child], i)
			case isUser && g.thing >= 0:
				gains[account] = append(gains[account], g.thing)
			case isUser:
				r.b.out.Unmanaged[model.UnmanagedThing{Kind: model.Group, Name: g.name}]++
			default:
				r.b.out.Dangling = append(r.b.out.Dangling, model.Dangling{Group: g.name, Member: m.ID})
			}
		}
	}
	r.nesting(parents)
	sets := r.b.out.Sets
	for account, things := range gains {
		if len(things) > 0 {
			held := &r.b.out.Held[account]
			*held = sets.Union(*held, sets.Of(things))
		}
	}
	slices.Sort(r.b.out.Defined[model.Group])
	return nil
}

// nesting notes which groups of the catalog are members of which, also by way of
// groups outside of it: who is in one is in the other too. parents are the groups,
// by number, that each group is a member of. O(groups of the catalog · nestings
// outside of it).
func (r *scimReader) nesting(parents map[int][]int) {
	if len(r.groups) == 0 {
		return
	}
	r.b.out.Nested = make([][]int32, len(r.b.app.Things))
	for from, child := range r.groups {
		seen := map[int]bool{from: true}
		for queue := []int{from}; len(queue) > 0; queue = queue[1:] {
			for _, to := range parents[queue[0]] {
				parent := r.groups[to]
				switch {
				case seen[to]:
				case parent.thing < 0 && child.thing >= 0:
					queue = append(queue, to)
				case parent.thing >= 0 && child.thing >= 0:
					r.b.out.Nested[child.thing] = append(r.b.out.Nested[child.thing], parent.thing)
				case parent.thing >= 0:
					r.b.out.Inner = append(r.b.out.Inner, model.Dangling{Group: parent.name, Member: child.name})
				}
				seen[to] = true
			}
		}
	}
}

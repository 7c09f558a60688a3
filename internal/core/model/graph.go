// A graph is what brings what along in an application, by the numbers of
// its things: groups bring roles and licenses, roles include roles, to any
// depth. There are four of them around a plan: as the catalog has it (CatalogGraph),
// as the application has it (ExportedGraph), as it is once the plan has given its
// definitions what they lack (WantedGraph), and what the last two have in common,
// as it is between what a plan takes from definitions and what it gives them
// (SharedGraph).

package model

import (
	"slices"
)

// A Graph says what each thing brings along by itself. It never changes.
type Graph struct {
	edges [][]int32
	flat  bool
}

// CatalogGraph is the graph as an application's file has it.
func CatalogGraph(app *App) *Graph {
	g := &Graph{edges: make([][]int32, len(app.Things))}
	for t := range app.Things {
		g.edges[t] = app.Things[t].Implies
	}
	return g.close()
}

// WantedGraph is the catalog's graph as it is in an application once its own
// definitions are as the catalog has them. What is to be retired brings along
// what it does, as long as it is there. Which groups are within which is the
// application's to say, where it shows that.
func WantedGraph(app *App, accounts *Accounts) *Graph {
	g := nested(app, accounts)
	defs := accounts.Definitions
	if defs == nil || !defs.Brings {
		return g.close()
	}
	for t := range app.Things {
		if d := defs.Of[t]; d != nil && app.Things[t].Retire {
			g.edges[t] = d.Along
		}
	}
	return g.close()
}

// ExportedGraph is the graph as an application has it: its own definitions as they
// are exported, and everything that those do not say as in the catalog.
func ExportedGraph(app *App, accounts *Accounts) *Graph {
	g := nested(app, accounts)
	defs := accounts.Definitions
	if defs == nil || !defs.Brings {
		return g.close()
	}
	for t, d := range defs.Of {
		if !app.Things[t].Define {
			continue
		}
		g.edges[t] = nil
		if d != nil {
			g.edges[t] = d.Along
		}
	}
	return g.close()
}

// nested is the catalog's graph, with groups within groups as an application has
// them.
func nested(app *App, accounts *Accounts) *Graph {
	g := CatalogGraph(app)
	if accounts.Nested == nil {
		return g
	}
	isGroup := func(t int32) bool { return app.Things[t].Kind == Group }
	for t := range app.Things {
		if isGroup(int32(t)) {
			g.edges[t] = append(slices.DeleteFunc(slices.Clone(g.edges[t]), isGroup), accounts.Nested[t]...)
		}
	}
	return g
}

// SharedGraph is what two graphs have in common; it is the first itself where that is
// the second.
func SharedGraph(a, b *Graph) *Graph {
	if a == b {
		return a
	}
	g := &Graph{edges: make([][]int32, len(a.edges))}
	for t := range a.edges {
		g.edges[t] = Without(a.edges[t], Without(a.edges[t], b.edges[t]))
	}
	return g.close()
}

// With is a graph in which some things bring along something else.
func (g *Graph) With(edges map[int32][]int32) *Graph {
	out := &Graph{edges: slices.Clone(g.edges)}
	for t, e := range edges {
		out.edges[t] = e
	}
	return out.close()
}

// Equal reports whether two graphs bring the same things along.
func (g *Graph) Equal(other *Graph) bool {
	sorted := func(x []int32) []int32 { return slices.Compact(slices.Sorted(slices.Values(x))) }
	return slices.EqualFunc(g.edges, other.edges, func(x, y []int32) bool { return slices.Equal(sorted(x), sorted(y)) })
}

func (g *Graph) close() *Graph {
	g.flat = !slices.ContainsFunc(g.edges, func(e []int32) bool { return len(e) > 0 })
	return g
}

// Flat reports that nothing brings anything along.
func (g *Graph) Flat() bool { return g.flat }

// Brings is what a thing brings along by itself.
func (g *Graph) Brings(t int32) []int32 { return g.edges[t] }

// walk visits what some things bring along, nearest first, each thing once, with
// the thing by which it was reached, until visit returns false. The things
// themselves are visited where one is reached again. O(edges).
func (g *Graph) walk(from []int32, visit func(t, by int32) bool) {
	if g.flat {
		return
	}
	seen := make([]bool, len(g.edges))
	for queue := slices.Clone(from); len(queue) > 0; queue = queue[1:] {
		for _, next := range g.edges[queue[0]] {
			if seen[next] {
				continue
			}
			seen[next] = true
			if !visit(next, queue[0]) {
				return
			}
			queue = append(queue, next)
		}
	}
}

// Along returns all that some things bring along, to any depth, sorted, without
// the things themselves unless one brings another. Circles end.
func (g *Graph) Along(things ...int32) []int32 {
	var out []int32
	g.walk(things, func(t, _ int32) bool { out = append(out, t); return true })
	slices.Sort(out)
	return out
}

// Chain is a shortest way from a thing to one that it brings along, both of
// them in it; nil where there is none.
func (g *Graph) Chain(from, to int32) []int32 {
	if from == to {
		return []int32{from}
	}
	by := map[int32]int32{}
	g.walk([]int32{from}, func(t, via int32) bool { by[t] = via; return t != to })
	if _, ok := by[to]; !ok {
		return nil
	}
	out := []int32{to}
	for t := to; t != from; {
		t = by[t]
		out = append(out, t)
	}
	slices.Reverse(out)
	return out
}

// Depths tells how deep what each thing brings along is nested: 0 for nothing.
// Things in a circle, which check refuses, count as if it ended.
func (g *Graph) Depths() []int {
	depth, state := make([]int, len(g.edges)), make([]int8, len(g.edges))
	var down func(t int32) int
	down = func(t int32) int {
		if state[t] == 0 {
			state[t] = 1
			for _, next := range g.edges[t] {
				if state[next] != 1 {
					depth[t] = max(depth[t], 1+down(next))
				}
			}
			state[t] = 2
		}
		return depth[t]
	}
	for t := range g.edges {
		down(int32(t))
	}
	return depth
}

// Direct returns what an account holds directly, at the least, when an export
// shows a set: of kinds that are shown with all that comes along, what another
// shown thing brings is not counted.
func (g *Graph) Direct(app *App, sets *Sets, shown uint32) uint32 {
	if app.Effective == [Kinds]bool{} {
		return shown
	}
	along := g.Along(sets.Members(shown)...)
	return sets.Of(slices.DeleteFunc(slices.Clone(sets.Members(shown)), func(t int32) bool {
		_, comes := slices.BinarySearch(along, t)
		return comes && app.Effective[app.Things[t].Kind]
	}))
}

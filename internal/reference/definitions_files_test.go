package reference

import (
	"encoding/csv"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// drawDefinitions lets an application show what its groups and roles are, and some
// of them be our own.
func (a *app) drawDefinitions(r *rand.Rand) {
	one := func(of ...string) string { return of[r.IntN(len(of))] }
	some := func(of ...string) (out []string) {
		for _, x := range of {
			if r.IntN(2) == 0 {
				out = append(out, x)
			}
		}
		return out
	}
	a.defs = true
	for i := range a.things {
		t := &a.things[i]
		if kind(t.key) == "license" || own(t.key) {
			continue
		}
		d := definition{key: t.key, title: one("", "As it is"), permissions: some("p1", "p2"), brings: t.brings}
		t.define = r.IntN(2) == 0
		if !t.define {
			a.defined = append(a.defined, d)
			continue
		}
		t.title, t.permissions = d.title, some("p1", "p2")
		if r.IntN(3) == 0 {
			t.title = "As it should be"
		}
		if r.IntN(2) == 0 {
			d.brings = nil
			for _, u := range a.things[i+1:] {
				if a.mayBring(*t, u) && r.IntN(2) == 0 {
					d.brings = append(d.brings, u.key)
				}
			}
		}
		brought := slices.ContainsFunc(a.things, func(o thing) bool { return slices.Contains(o.brings, t.key) })
		if r.IntN(4) == 0 && !brought {
			t.retire, t.brings = true, nil
		}
		if r.IntN(4) > 0 {
			slices.Sort(d.brings)
			a.defined = append(a.defined, d)
		}
	}
}

// mayBring reports whether a thing of one kind may bring another along: groups
// bring everything, and roles roles.
func (a *app) mayBring(t, u thing) bool {
	return !own(u.key) && (kind(t.key) == "group" || kind(t.key) == "role" && kind(u.key) == "role")
}

// drawNested draws which groups of a SCIM application are within which, by hand or
// as the catalog has it.
func (a *app) drawNested(r *rand.Rand) {
	for i, t := range a.things {
		for _, u := range a.things[i+1:] {
			if kind(t.key) != "group" || kind(u.key) != "group" || t.absent || u.absent {
				continue
			}
			within := slices.Contains(t.brings, u.key)
			if r.IntN(3) == 0 {
				within = !within
			}
			if within {
				a.nested = append(a.nested, [2]string{t.key, u.key})
			}
		}
	}
}

func split(list string) []string {
	if list == "" {
		return nil
	}
	return strings.Split(list, ",")
}

// definitions writes what an application says of its groups and roles.
func (a *app) definitions(t *testing.T, dir string) {
	if !a.defs {
		return
	}
	var b strings.Builder
	out := csv.NewWriter(&b)
	require.NoError(t, out.Write([]string{"Type", "Profile", "Text", "Rights", "Contains", "Seats", "Within"}))
	of := func(keys []string, k string) string {
		var names []string
		for _, key := range keys {
			if kind(key) == k {
				names = append(names, name(key))
			}
		}
		return strings.Join(names, "|")
	}
	for _, d := range a.defined {
		require.NoError(t, out.Write([]string{
			kind(d.key), name(d.key), d.title, strings.Join(d.permissions, "|"), of(d.brings, "role"),
			of(d.brings, "license"),
			of(d.brings, "group"),
		}))
	}
	out.Flush()
	require.NoError(t, os.WriteFile(filepath.Join(dir, a.in(), a.id+"-profiles.csv"), []byte(b.String()), 0o644))
}

// readDefinitions reads them again.
func (a *app) readDefinitions(t *testing.T, dir string) {
	if !a.defs {
		return
	}
	data, err := os.ReadFile(filepath.Join(dir, a.in(), a.id+"-profiles.csv"))
	require.NoError(t, err)
	rows, err := csv.NewReader(strings.NewReader(string(data))).ReadAll()
	require.NoError(t, err)
	a.defined = nil
	for _, f := range rows[1:] {
		d := definition{key: f[0] + "/" + f[1], title: f[2]}
		if f[3] != "" {
			d.permissions = slices.Sorted(strings.SplitSeq(f[3], "|"))
		}
		for i, k := range []string{"role", "license", "group"} {
			for n := range strings.SplitSeq(f[4+i], "|") {
				if n != "" {
					d.brings = append(d.brings, k+"/"+n)
				}
			}
		}
		slices.Sort(d.brings)
		a.defined = append(a.defined, d)
	}
}

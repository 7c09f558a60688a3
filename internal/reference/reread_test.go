package reference

import (
	"encoding/csv"
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// reread reads what the applications hold from their files.
func (w *world) reread(t *testing.T, dir string) {
	for i := range w.apps {
		a := &w.apps[i]
		a.rows = nil
		if a.format == "csv" {
			a.readCSV(t, dir)
			a.readDefinitions(t, dir)
		} else {
			a.readSCIM(t, dir)
		}
		a.part()
	}
}

func (a *app) readCSV(t *testing.T, dir string) {
	data, err := os.ReadFile(filepath.Join(dir, a.in(), a.id+".csv"))
	require.NoError(t, err)
	rows, err := csv.NewReader(strings.NewReader(string(data))).ReadAll()
	require.NoError(t, err)
	for _, f := range rows[1:] {
		r := row{user: f[0], open: f[1] == "Open", name: f[2], email: f[3], title: f[8]}
		for k, column := range map[string]int{"group": 4, "role": 5, "license": 6, "place": 9, "policy": 10} {
			for n := range strings.SplitSeq(f[column], ";") {
				if n != "" {
					r.held = append(r.held, k+"/"+n)
				}
			}
		}
		a.rows = append(a.rows, r.sorted())
	}
}

func (r row) sorted() row {
	slices.Sort(r.held)
	return r
}

func (a *app) readSCIM(t *testing.T, dir string) {
	type value struct {
		Value   string
		Primary bool
	}
	var all []struct {
		ID, UserName, DisplayName, Title string
		Active                           bool
		Emails, Roles, Entitlements      []value
		Members                          []value
	}
	for _, file := range []string{a.id + ".json", a.id + "-groups.json"} {
		data, err := os.ReadFile(filepath.Join(dir, a.in(), file))
		if os.IsNotExist(err) {
			continue
		}
		require.NoError(t, err)
		page := struct {
			TotalResults int
			Resources    json.RawMessage
		}{}
		require.NoError(t, json.Unmarshal(data, &page))
		before := len(all)
		more := all[:0:0]
		require.NoError(t, json.Unmarshal(page.Resources, &more))
		all = append(all, more...)
		require.Equal(t, page.TotalResults, len(all)-before, "%s", data)
	}
	a.nested = nil
	for _, u := range all {
		if u.UserName == "" {
			for _, m := range u.Members {
				if inner, ok := strings.CutPrefix(m.Value, "g-"); ok {
					a.nested = append(a.nested, [2]string{"group/" + inner, "group/" + u.DisplayName})
				}
			}
			continue
		}
		r := row{user: u.UserName, name: u.DisplayName, title: u.Title, open: u.Active}
		for _, e := range u.Emails {
			r.email = e.Value
		}
		for _, x := range u.Roles {
			r.held = append(r.held, "role/"+x.Value)
		}
		for _, x := range u.Entitlements {
			r.held = append(r.held, "license/"+x.Value)
		}
		for _, g := range all {
			for _, m := range g.Members {
				if g.UserName == "" && m.Value == u.ID {
					r.held = append(r.held, "group/"+g.DisplayName)
				}
			}
		}
		a.rows = append(a.rows, r.sorted())
	}
}

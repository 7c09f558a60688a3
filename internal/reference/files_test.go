package reference

import (
	"cmp"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// taken is when exports were taken that are not old.
var taken = time.Date(2026, 11, 24, 6, 0, 0, 0, time.UTC)

// taken is when an application's export was taken.
func (a *app) taken() time.Time {
	if a.old {
		return taken.AddDate(0, 0, -4)
	}
	return taken
}

// write writes a world's files into a folder.
func (w *world) write(t *testing.T, dir string) {
	put := func(path, text string) {
		path = filepath.Join(dir, path)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
	var root strings.Builder
	root.WriteString(
		"organization: Marrowick Ferries\nguards: {rosterShrink: " + w.rosterShrink + "}\n" + w.more["pravet.yaml"],
	)
	if w.outsiders {
		root.WriteString("outsiders: userType eq \"Contractor\"\noutsiderTerm: P181D\n")
	}
	if len(w.apart) > 0 {
		root.WriteString("separation:\n")
		for i, s := range w.apart {
			fmt.Fprintf(&root, "  - {name: pair %d, apart: [%s, %s]}\n", i, s[0], s[1])
		}
	}
	put("pravet.yaml", root.String())
	standing := ""
	if len(w.may) > 0 {
		standing += fmt.Sprintf(
			"exceptions: [{separation: pair 0, person: %s, until: 2027-12-31, because: few people}]\n",
			w.may[0],
		)
	}
	if len(w.lifts) > 0 {
		standing += "lifted:\n"
	}
	for _, l := range w.lifts {
		app := ""
		if l.app != "" {
			app = ", app: " + l.app
		}
		standing += fmt.Sprintf("  - {guard: %s%s, until: 2027-12-31, because: as agreed}\n", l.guard, app)
	}
	put("standing.yaml", standing)
	columns := "id,userName,displayName,email,department,starts,ends,away,userType,sponsor\n"
	list := "people:\n"
	for _, p := range w.people {
		away, kind := map[bool]string{true: "true"}[p.away], "Employee"
		switch {
		case p.outsider:
			kind = "Contractor"
		case p.service:
			kind = "Service"
		}
		if p.file == 0 {
			columns += strings.Join(
				[]string{p.id, p.user, p.name, p.email, p.department, p.starts, p.ends, away, kind, p.sponsor},
				",",
			) + "\n"
			continue
		}
		list += fmt.Sprintf(
			"  - {id: %s, userName: %s, displayName: %s, department: %s",
			p.id,
			p.user,
			p.name,
			p.department,
		)
		for key, v := range map[string]string{
			"email": p.email, "starts": p.starts, "ends": p.ends, "away": away, "userType": kind, "sponsor": p.sponsor,
		} {
			if v != "" {
				list += fmt.Sprintf(", %s: %s", key, v)
			}
		}
		list += "}\n"
	}
	put("people/first.csv", columns)
	if list != "people:\n" {
		put("people/second.yaml", list)
	} else {
		require.NoError(t, os.RemoveAll(filepath.Join(dir, "people/second.yaml")))
	}
	var kits strings.Builder
	kits.WriteString("kits:\n")
	for _, k := range w.kits {
		fmt.Fprintf(&kits, "  %s:\n", k.name)
		if k.holder != "" {
			fmt.Fprintf(&kits, "    holders: [{person: %s, because: as agreed", k.holder)
			if k.until != "" {
				fmt.Fprintf(&kits, ", until: %s", k.until)
			}
			kits.WriteString("}]\n")
		} else {
			fmt.Fprintf(&kits, "    for: %s\n", cmp.Or(k.rule, fmt.Sprintf("department eq %q", k.department)))
		}
		if k.rank > 0 {
			fmt.Fprintf(&kits, "    rank: %d\n", k.rank)
		}
		kits.WriteString("    gives:\n")
		for _, a := range w.apps {
			if keys, ok := k.gives[a.id]; ok {
				gives := byKind(keys)
				if t := k.sets[a.id]; t != "" {
					gives = strings.Replace(gives, "{", "{set: {title: "+t+"}, ", 1)
				}
				fmt.Fprintf(&kits, "      %s: %s\n", a.id, gives)
			}
		}
	}
	if len(w.kits) > 0 {
		put("kits/all.yaml", kits.String())
	}
	if text := w.more["paths"]; text != "" {
		put("paths/all.yaml", text)
	}
	for i := range w.apps {
		a := &w.apps[i]
		put("apps/"+a.id+".yaml", a.yaml(w.titled(a))+w.more["apps/"+a.id])
		w.export(t, dir, a)
	}
}

// byKind writes things as a YAML flow mapping of their kinds.
func byKind(keys []string) string {
	var parts []string
	for _, k := range kinds {
		var of []string
		for _, key := range keys {
			if kind(key) == k {
				of = append(of, name(key))
			}
		}
		if !own(k) {
			k += "s"
		}
		if len(of) > 0 && lone(k) {
			parts = append(parts, k+": "+of[0])
		} else if len(of) > 0 {
			parts = append(parts, k+": ["+strings.Join(of, ", ")+"]")
		}
	}
	return "{" + strings.Join(parts, ", ") + "}"
}

// in is the folder of an application's export.
func (a *app) in() string { return cmp.Or(a.folder, "exports") }

// kept says where the export is that is in a folder.
func (a *app) kept(folder string) (out []string) {
	switch {
	case a.format == "csv":
		out = append(out, fmt.Sprintf("path: %s/%s.csv", folder, a.id))
	case a.layout == 0:
		out = append(out, fmt.Sprintf("path: %s/%s.json", folder, a.id))
	default:
		out = append(out, fmt.Sprintf("path: [%s/%s.json, %s/%s-groups.json]", folder, a.id, folder, a.id))
	}
	if a.defs {
		out = append(out, fmt.Sprintf("definitions: {path: %s/%s-profiles.csv, columns: {kind: Type, name: Profile, title: Text, "+
			"permissions: {column: Rights, split: \"|\"}, roles: {column: Contains, split: \"|\"}, "+
			"licenses: {column: Seats, split: \"|\"}, groups: {column: Within, split: \"|\"}}}", folder, a.id))
	}
	return out
}

func (a *app) yaml(titled bool) string {
	var b strings.Builder
	fmt.Fprintf(&b, "app: %s\nexport:\n  format: %s\n", a.id, a.format)
	if !a.promoted {
		fmt.Fprintf(&b, "  %s\n", strings.Join(a.kept(a.in()), "\n  "))
	}
	if a.format == "csv" {
		title, roles := "", `{column: Profiles, split: ";"}`
		if titled {
			title = "title: Home, "
		}
		if a.single {
			roles = "Profiles"
		}
		b.WriteString(
			"  columns: {userName: Login, displayName: Full name, email: Mail, " + title +
				"active: {column: State, true: Open, false: Blocked},\n" +
				"    groups: {column: Teams, split: \";\"}, roles: " +
				"" + roles + ", licenses: {column: Seats, split: \";\"}}\n",
		)
	}
	if a.format == "scim" && titled {
		b.WriteString("  columns: {title: title}\n")
	}
	if a.effective {
		b.WriteString("  shows: effective\n")
	}
	fmt.Fprintf(
		&b,
		"connect: {by: files}\nmatch: %s\naccount: {userName: userName, displayName: displayName, email: email}\n",
		a.by,
	)
	fmt.Fprintf(
		&b,
		"strays: %s\nguards: {removals: %s, suspensions: %s, narrowing: %s, exportShrink: %s, exportAge: %s, removalWait: P0D%s}\n",
		a.strays,
		a.removals,
		a.suspensions,
		a.narrowing,
		a.shrink,
		map[bool]string{true: "P2D", false: "P9999D"}[a.old],
		a.limits.said(),
	)
	if a.promoted {
		fmt.Fprintf(
			&b, "environments:\n  rehearsal: {export: {%s}}\n  live: {export: {%s}, promote: {from: rehearsal, within: P7D}}\n",
			strings.Join(a.kept("exports/rehearsal"), ", "), strings.Join(a.kept("exports"), ", "),
		)
	}
	if a.fixed {
		b.WriteString("fixed: [userName]\n")
	}
	if a.tidy {
		b.WriteString("tidy: doubles\n")
	}
	if a.scope != "" {
		fmt.Fprintf(&b, "scope: department ne %q\n", a.scope)
	}
	if a.protect != "" {
		fmt.Fprintf(&b, "protect: [%s]\n", a.protect)
	}
	for _, k := range kinds {
		first, indent := true, "  "
		if own(k) {
			indent = "      "
		}
		for _, t := range a.things {
			if kind(t.key) != k {
				continue
			}
			switch {
			case first && k == "place":
				b.WriteString("kinds:\n  place:\n    column: Places\n    split: \";\"\n    things:\n")
			case first && k == "policy":
				if !slices.ContainsFunc(a.things, func(t thing) bool { return kind(t.key) == "place" }) {
					b.WriteString("kinds:\n")
				}
				b.WriteString("  policy:\n    column: Policy\n    one: true\n    things:\n")
			case first:
				b.WriteString(k + "s:\n")
			}
			first = false
			var parts []string
			if len(t.brings) > 0 && k == "group" {
				parts = append(parts, "brings: "+byKind(t.brings))
			}
			if len(t.brings) > 0 && k == "role" {
				var names []string
				for _, x := range t.brings {
					names = append(names, name(x))
				}
				parts = append(parts, "includes: ["+strings.Join(names, ", ")+"]")
			}
			if t.seats >= 0 {
				parts = append(parts, fmt.Sprintf("seats: %d", t.seats))
			}
			if t.atLeast > 0 {
				parts = append(parts, fmt.Sprintf("atLeast: %d", t.atLeast))
			}
			if t.needs {
				parts = append(parts, "needs: [email]")
			}
			if t.define {
				parts = append(parts, "define: true", fmt.Sprintf("title: %q", t.title))
				if len(t.permissions) > 0 {
					parts = append(parts, "permissions: ["+strings.Join(t.permissions, ", ")+"]")
				}
			}
			if t.retire {
				parts = append(parts, "retire: true")
			}
			if t.sensitive {
				parts = append(parts, "sensitive: true")
			}
			if t.insiders {
				parts = append(parts, "insiders: true")
			}
			if t.usual {
				parts = append(parts, "default: true")
			}
			fmt.Fprintf(&b, "%s%s: {%s}\n", indent, name(t.key), strings.Join(parts, ", "))
		}
	}
	return b.String()
}

// export writes what an application holds.
func (w *world) export(t *testing.T, dir string, a *app) {
	put := func(file string, data []byte) {
		path := filepath.Join(dir, a.in(), file)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, data, 0o644))
		require.NoError(t, os.Chtimes(path, a.taken(), a.taken()))
	}
	of := func(r row, k string) (out []string) {
		for _, key := range r.held {
			if kind(key) == k {
				out = append(out, name(key))
			}
		}
		return out
	}
	if a.format == "csv" {
		var b strings.Builder
		out := csv.NewWriter(&b)
		require.NoError(
			t,
			out.Write(
				[]string{"Login", "State", "Full name", "Mail", "Teams", "Profiles", "Seats", "Note", "Home", "Places", "Policy"},
			),
		)
		for _, r := range a.rows {
			state := map[bool]string{true: "Open", false: "Blocked"}[r.open]
			require.NoError(
				t,
				out.Write([]string{
					r.user,
					state,
					r.name,
					r.email,
					strings.Join(of(r, "group"), ";"),
					strings.Join(of(r, "role"), ";"),
					strings.Join(of(r, "license"), ";"),
					"kept",
					r.title,
					strings.Join(of(r, "place"), ";"),
					strings.Join(of(r, "policy"), ";"),
				}),
			)
		}
		out.Flush()
		put(a.id+".csv", []byte(b.String()))
		a.definitions(t, dir)
		return
	}
	values := func(names []string) any {
		out := []any{}
		for _, n := range names {
			out = append(out, map[string]any{"value": n})
		}
		return out
	}
	var users, groups []any
	for i, r := range a.rows {
		u := map[string]any{
			"schemas":     []string{"urn:ietf:params:scim:schemas:core:2.0:User"},
			"id":          fmt.Sprintf("%s-%d", a.id, i),
			"userName":    r.user,
			"displayName": r.name,
			"active":      r.open,
		}
		if r.title != "" {
			u["title"] = r.title
		}
		if r.email != "" {
			u["emails"] = []any{map[string]any{"value": r.email, "primary": true}}
		}
		if names := of(r, "role"); len(names) > 0 || i%2 == 0 {
			u["roles"] = values(names)
		}
		if names := of(r, "license"); len(names) > 0 {
			u["entitlements"] = values(names)
		}
		users = append(users, u)
	}
	for _, th := range a.things {
		if kind(th.key) != "group" || th.absent && !w.shows(a, th.key) {
			continue
		}
		members := []any{}
		for _, n := range a.nested {
			if n[1] == th.key {
				members = append(members, map[string]any{"value": "g-" + name(n[0]), "type": "Group"})
			}
		}
		for i, r := range a.rows {
			if slices.Contains(r.held, th.key) {
				members = append(members, map[string]any{"value": fmt.Sprintf("%s-%d", a.id, i)})
			}
		}
		groups = append(groups, map[string]any{
			"schemas":     []string{"urn:ietf:params:scim:schemas:core:2.0:Group"},
			"id":          "g-" + name(th.key),
			"displayName": name(th.key),
			"members":     members,
		})
	}
	page := func(of []any) []byte {
		if of == nil {
			of = []any{}
		}
		data, err := json.MarshalIndent(
			map[string]any{
				"schemas":      []string{"urn:ietf:params:scim:api:messages:2.0:ListResponse"},
				"totalResults": len(of),
				"Resources":    of,
			},
			"",
			"  ",
		)
		require.NoError(t, err)
		return data
	}
	if a.layout == 0 {
		put(a.id+".json", page(append(users, groups...)))
		return
	}
	put(a.id+".json", page(users))
	put(a.id+"-groups.json", page(groups))
}

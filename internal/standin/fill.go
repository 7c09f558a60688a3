package standin

import (
	"os"
	"path/filepath"
	"strings"

	"pravet/internal/core/model"
)

// StateFile is the file in a folder that the state of an application is kept in. The folder
// is made where it is missing.
func StateFile(folder, app string) (string, error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return "", err
	}
	return filepath.Join(folder, app+".json"), nil
}

// Len is how many users and groups there are.
func (s *Server) Len() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.users.of) + len(s.groups.of)
}

// Fill gives the stand-in the accounts of an export; path is where a SCIM user has an
// attribute, name by name.
func (s *Server) Fill(app *model.App, accounts *model.Accounts, path func(attr string) []string) {
	members := map[string][]string{}
	for i := range accounts.Len() {
		r := resource{"active": accounts.Open(i)}
		set(r, path(app.Match), accounts.Key.At(i))
		if r["userName"] == nil {
			r["userName"] = accounts.Key.At(i)
		}
		for n, attr := range app.Attrs {
			if v := accounts.Attr(n, i); v != "" {
				set(r, path(attr.Name), v)
			}
		}
		var groups []string
		for _, t := range accounts.Sets.Members(accounts.Held[i]) {
			switch thing := &app.Things[t]; thing.Kind {
			case model.Group:
				groups = append(groups, thing.Name)
			case model.Role:
				r["roles"] = append(list(r["roles"]), map[string]any{"value": thing.Name})
			default:
				r["entitlements"] = append(list(r["entitlements"]), map[string]any{"value": thing.Name})
			}
		}
		id := s.AddUser(r)
		for _, g := range groups {
			members[g] = append(members[g], id)
		}
	}
	names := app.Names(model.Group)
	if shown := accounts.Defined[model.Group]; shown != nil {
		names = shown
	}
	for _, name := range names {
		s.AddGroup(name, members[name]...)
	}
}

func list(v any) []any {
	l, _ := v.([]any)
	return l
}

// set puts a value under a path.
func set(r resource, path []string, v string) {
	if len(path) == 1 && (path[0] == "emails" || path[0] == "phoneNumbers") {
		r[path[0]] = []any{map[string]any{"value": v, "primary": true}}
		return
	}
	for _, name := range path[:len(path)-1] {
		inner, ok := r[name].(map[string]any)
		if !ok {
			inner = map[string]any{}
			r[name] = inner
		}
		r = inner
	}
	r[path[len(path)-1]] = strings.Clone(v)
}

package scim

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"

	"github.com/tidwall/gjson"

	"pravet/internal/connect/live"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/export"
)

// Operations are those of a Bulk request that carries changes out (RFC 7644 §3.7), for
// somebody to load. The ids of users and groups are those of an export in SCIM; an account
// that the request itself creates is named by its bulkId (§3.7.2). covered are the changes
// that it carries out.
func Operations(
	app *model.App, spec *export.Spec, files [][]byte, changes []*plan.Change,
) (ops []any, covered []*plan.Change, err error) {
	d := &driver{
		client: &client{}, app: app, named: spec, users: map[string]*user{},
		roster: &roster{of: map[string]*group{}, byName: map[string]*group{}},
		can:    offers{patch: true, users: "Users", groupsAt: "Groups", groups: true},
	}
	for _, data := range files {
		if err := d.shown(data); err != nil {
			return nil, nil, err
		}
	}
	var work []live.Work
	at := map[string]int{}
	made := map[string]string{}
	for _, c := range changes {
		if c.Verb.OfThing() {
			continue
		}
		i, ok := at[c.Account]
		if !ok {
			i = len(work)
			at[c.Account] = i
			work = append(work, live.Work{Account: c.Account})
		}
		if c.Verb == model.Create {
			made[c.Account] = fmt.Sprintf("n%d", len(made)+1)
			d.users[c.Account] = &user{id: "bulkId:" + made[c.Account], body: map[string]any{}}
		}
		work[i].Changes = append(work[i].Changes, c)
	}
	ops = []any{}
	for _, w := range work {
		// A creation is an operation of its own, and what comes after it another.
		var parts []live.Work
		for _, c := range w.Changes {
			if n := len(parts); n == 0 || c.Verb == model.Create || parts[n-1].Changes[0].Verb == model.Create {
				parts = append(parts, live.Work{Account: w.Account})
			}
			parts[len(parts)-1].Changes = append(parts[len(parts)-1].Changes, c)
		}
		for _, part := range parts {
			messages, _ := d.messages(context.Background(), []live.Work{part})
			for _, m := range messages {
				if m.method == http.MethodPost {
					m.bulkID = made[w.Account]
				}
				ops = append(ops, d.bulkOp(m, m.changes, -1))
				covered = append(covered, m.changes...)
			}
		}
	}
	return ops, covered, nil
}

// shown remembers the users and groups of an export.
func (d *driver) shown(data []byte) error {
	var each func(v gjson.Result) error
	each = func(v gjson.Result) error {
		for _, r := range listOf(v) {
			if r.IsArray() {
				if err := each(r); err != nil {
					return err
				}
				continue
			}
			raw := json.RawMessage(r.Raw)
			kind, err := export.SCIMKind(export.Resource(raw))
			if err != nil {
				return err
			}
			if kind == "Group" {
				name, err := export.Resource(raw).Name("displayName", "id")
				if err != nil {
					return err
				}
				g := &group{id: strings.Clone(field(r, "id").String()), name: strings.Clone(name)}
				d.roster.of[g.id], d.roster.byName[g.name] = g, g
				continue
			}
			record, u, err := d.record(raw)
			if err != nil {
				return err
			}
			u.version = ""
			if err := u.decode(raw); err != nil {
				return err
			}
			d.users[record.Account] = u
		}
		return nil
	}
	return each(gjson.ParseBytes(data))
}

package scim

import (
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"pravet/internal/connect"
	"pravet/internal/connect/live"
	"pravet/internal/export"
)

// refers reports whether an attribute names another account.
func (d *driver) refers(attr string) bool {
	return slices.Equal(export.SCIMPath(d.named, attr), managerPath)
}

// referring reports whether any attribute does.
func (d *driver) referring() bool {
	for _, a := range d.app.Attrs {
		if d.refers(a.Name) {
			return true
		}
	}
	return false
}

// call reads the names of all users by their ids, so that references can be read and written.
func (d *driver) call(ctx context.Context) error {
	if !d.referring() {
		return nil
	}
	path := export.SCIMPath(d.named, d.app.Match)
	names, ids := map[string]string{}, map[string]string{}
	err := d.list(ctx, d.can.users, url.Values{"attributes": {pathText(path)}}, func(raw json.RawMessage) error {
		v := export.Resource(raw)
		id, err := v.Name("id")
		if err != nil {
			return err
		}
		name, err := export.SCIMText(v, path)
		id, name = strings.Clone(id), strings.Clone(name)
		names[id], ids[name] = name, id
		return err
	})
	d.mu.Lock()
	defer d.mu.Unlock()
	if err == nil {
		d.names, d.ids = names, ids
	}
	return err
}

// meet makes sure that the accounts which changes name are known, if they are there by now.
func (d *driver) meet(ctx context.Context, work []live.Work) error {
	if !d.referring() {
		return nil
	}
	missing := func(attr, v string) bool {
		if v == "" || !d.refers(attr) {
			return false
		}
		_, err := d.id(v)
		return err != nil
	}
	for _, w := range work {
		for _, c := range w.Changes {
			if c.Attribute != "" && missing(c.Attribute, c.After.Text()) {
				return d.call(ctx)
			}
			for attr, v := range c.After.Fields() {
				if missing(attr, v) {
					return d.call(ctx)
				}
			}
		}
	}
	return nil
}

// name is the account that a reference leads to; the reference itself where there is none.
func (d *driver) name(id string) string {
	d.mu.Lock()
	defer d.mu.Unlock()
	if name := d.names[id]; name != "" {
		return name
	}
	return id
}

// id is the reference to an account.
func (d *driver) id(name string) (string, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if id := d.ids[name]; id != "" {
		return id, nil
	}
	return "", &connect.Fault{
		Kind: connect.Refused, Says: fmt.Sprintf("the application has no account %s to name; apply again once it has", name),
	}
}

package scim

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"slices"
	"strings"

	"github.com/tidwall/gjson"

	"pravet/internal/connect"
	"pravet/internal/connect/live"
)

// offers is what an application says it can do (RFC 7643 §5, RFC 9865 §2).
type offers struct {
	patch, etag, sort  bool
	filter, cursor     bool
	bulk               bool
	bulkOps, bulkBytes int
	most               int // resources in one answer; 0 where it does not say

	groups    bool     // it has groups as resources
	users     string   // where users are
	groupsAt  string   // where groups are
	listed    bool     // its schemas were read, and attrs are those of users
	attrs     []string // in small letters, with the schema's name before those of extensions
	readOnly  []string // likewise
	discovery []string // which of the three documents it gives
}

// discover asks the application what it can do. Where it does not say, only what RFC 7644
// requires is used, and PATCH is tried.
func (d *driver) discover(ctx context.Context) error {
	d.can = offers{patch: true, filter: true, groups: true, users: "Users", groupsAt: "Groups"}
	config, err := d.document(ctx, "ServiceProviderConfig")
	if err != nil {
		return err
	}
	if config.Exists() {
		yes := func(name string) bool { return field(config, name, "supported").Bool() }
		d.can.patch, d.can.etag, d.can.sort = yes("patch"), yes("etag"), yes("sort")
		d.can.filter, d.can.bulk = yes("filter"), yes("bulk")
		d.can.cursor = field(config, "pagination", "cursor").Bool()
		d.can.most = int(field(config, "filter", "maxResults").Int())
		d.can.bulkOps = int(field(config, "bulk", "maxOperations").Int())
		d.can.bulkBytes = int(field(config, "bulk", "maxPayloadSize").Int())
		if n := int(field(config, "pagination", "maxPageSize").Int()); n > 0 {
			d.can.most = n
		}
		d.can.bulk = d.can.bulk && d.can.bulkOps > 1
	}
	if err := d.resourceTypes(ctx); err != nil {
		return err
	}
	return d.schemas(ctx)
}

// resourceTypes finds where users and groups are.
func (d *driver) resourceTypes(ctx context.Context) error {
	types, err := d.document(ctx, "ResourceTypes")
	if err != nil || !types.Exists() {
		return err
	}
	d.can.groups = false
	users := false
	for _, t := range listOf(types) {
		at := strings.Trim(field(t, "endpoint").String(), "/")
		switch schema := field(t, "schema").String(); {
		case at == "":
		case strings.EqualFold(schema, "urn:ietf:params:scim:schemas:core:2.0:User"):
			d.can.users, users = at, true
		case strings.EqualFold(schema, "urn:ietf:params:scim:schemas:core:2.0:Group"):
			d.can.groupsAt, d.can.groups = at, true
		}
	}
	if !users {
		return &connect.Fault{Kind: connect.Failed, Says: "the application has no users, by its ResourceTypes"}
	}
	return nil
}

// schemas reads which attributes users have.
func (d *driver) schemas(ctx context.Context) error {
	doc, err := d.document(ctx, "Schemas")
	if err != nil || !doc.Exists() {
		return err
	}
	for _, s := range listOf(doc) {
		id := field(s, "id").String()
		core := strings.EqualFold(id, "urn:ietf:params:scim:schemas:core:2.0:User")
		if strings.EqualFold(id, "urn:ietf:params:scim:schemas:core:2.0:Group") {
			continue
		}
		for _, a := range field(s, "attributes").Array() {
			name := strings.ToLower(field(a, "name").String())
			if !core {
				name = strings.ToLower(id) + ":" + name
			}
			d.can.listed = d.can.listed || core
			d.can.attrs = append(d.can.attrs, name)
			if strings.EqualFold(field(a, "mutability").String(), "readOnly") {
				d.can.readOnly = append(d.can.readOnly, name)
			}
		}
	}
	return nil
}

// document reads one of the documents of discovery; it does not exist where the application
// has none.
func (d *driver) document(ctx context.Context, name string) (gjson.Result, error) {
	var a *answer
	err := d.ask(ctx, func(ctx context.Context) (err error) {
		a, err = d.send(ctx, http.MethodGet, name, nil, "", nil)
		return err
	})
	var again *live.Again
	switch {
	case a != nil && (a.status == http.StatusNotFound || a.status == http.StatusNotImplemented):
		return gjson.Result{}, nil
	case errors.As(err, &again):
		return gjson.Result{}, &connect.Fault{Kind: connect.Failed, Says: again.Says}
	case err != nil:
		return gjson.Result{}, err
	case !json.Valid(a.body):
		return gjson.Result{}, &connect.Fault{
			Kind: connect.Failed,
			Says: "what the application says under " + name + " is no JSON",
		}
	}
	d.can.discovery = append(d.can.discovery, name)
	return gjson.ParseBytes(a.body), nil
}

// field follows names, read without case (RFC 7643 §2.1).
func field(v gjson.Result, path ...string) gjson.Result {
	for _, name := range path {
		var found gjson.Result
		v.ForEach(func(key, value gjson.Result) bool {
			if strings.EqualFold(key.String(), name) {
				found = value
				return false
			}
			return true
		})
		v = found
	}
	return v
}

// listOf are the resources of a list, which may come bare.
func listOf(v gjson.Result) []gjson.Result {
	if v.IsArray() {
		return v.Array()
	}
	if r := field(v, "Resources"); r.Exists() {
		return r.Array()
	}
	return []gjson.Result{v}
}

// takes reports whether users have an attribute that can be written, as far as the
// application says.
func (d *driver) takes(path []string) (has, writable bool) {
	name := strings.ToLower(path[0])
	if strings.HasPrefix(name, "urn:") && len(path) > 1 {
		name += ":" + strings.ToLower(path[1])
	}
	has = !d.can.listed || slices.Contains(d.can.attrs, name) || name == "id" || name == "externalid"
	return has, !slices.Contains(d.can.readOnly, name)
}

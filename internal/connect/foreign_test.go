package connect_test

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"pravet/internal/connect"
	"slices"
	"sync"
	"testing"

	"github.com/elimity-com/scim"
	"github.com/elimity-com/scim/errors"
	"github.com/elimity-com/scim/schema"
	"github.com/scim2/filter-parser/v2"
	"github.com/stretchr/testify/require"

	"pravet/internal/connect/live"
	ours "pravet/internal/connect/scim"
)

// foreign is the yard on a SCIM server that others have written: the library parses and
// validates every request and writes every answer; below is only where resources are kept.
func foreign(t *testing.T) *reached {
	t.Helper()
	users, groups := &shelf{
		prefix: "u",
		of:     map[string]scim.ResourceAttributes{},
	}, &shelf{prefix: "g", of: map[string]scim.ResourceAttributes{}}
	s, err := scim.NewServer(&scim.ServerArgs{
		ServiceProviderConfig: &scim.ServiceProviderConfig{MaxResults: 50, SupportFiltering: true, SupportPatch: true},
		ResourceTypes: []scim.ResourceType{
			{Name: "User", Endpoint: "/Users", Schema: schema.CoreUserSchema(), Handler: users},
			{Name: "Group", Endpoint: "/Groups", Schema: schema.CoreGroupSchema(), Handler: groups},
		},
	})
	require.NoError(t, err)
	put := func(sh *shelf, a scim.ResourceAttributes) string {
		r, err := sh.Create(nil, a)
		require.NoError(t, err)
		return r.ID
	}
	ada := put(
		users,
		scim.ResourceAttributes{
			"userName":    "ada",
			"displayName": "Ada Fell",
			"active":      true,
			"roles":       []any{map[string]any{"value": "lead"}},
		},
	)
	put(users, scim.ResourceAttributes{"userName": "bo", "displayName": "Bo Marsh", "active": true})
	cy := put(users, scim.ResourceAttributes{"userName": "cy", "displayName": "Cy Quay", "active": false})
	put(groups, scim.ResourceAttributes{"displayName": "crew", "members": []any{map[string]any{"value": ada}}})
	put(groups, scim.ResourceAttributes{"displayName": "deck", "members": []any{map[string]any{"value": cy}}})
	web := httptest.NewServer(s)
	t.Cleanup(web.Close)
	a := yard(t, &connect.Spec{By: "scim", URL: web.URL, Token: "env:TOKEN"})
	a.Open = func(ctx context.Context) (live.Driver, error) {
		return ours.Open(
			ctx, live.Options{App: a.App, Spec: a.Spec, Secret: secretOf("any"), Keep: func(string) {}, Ask: a.Ask},
		)
	}
	return &reached{a, func(account, shown string) {
		users.mu.Lock()
		defer users.mu.Unlock()
		for _, r := range users.of {
			if r["userName"] == account {
				r["displayName"] = shown
			}
		}
	}}
}

// shelf keeps resources of one type.
type shelf struct {
	mu     sync.Mutex
	prefix string
	next   int
	of     map[string]scim.ResourceAttributes
	order  []string
}

func (s *shelf) resource(id string) scim.Resource { return scim.Resource{ID: id, Attributes: s.of[id]} }

func (s *shelf) Create(_ *http.Request, a scim.ResourceAttributes) (scim.Resource, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, r := range s.of {
		if r["userName"] != nil && r["userName"] == a["userName"] {
			return scim.Resource{}, errors.ScimErrorUniqueness
		}
	}
	s.next++
	id := fmt.Sprintf("%s%d", s.prefix, s.next)
	s.of[id] = a
	s.order = append(s.order, id)
	return s.resource(id), nil
}

func (s *shelf) Get(_ *http.Request, id string) (scim.Resource, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.of[id] == nil {
		return scim.Resource{}, errors.ScimErrorResourceNotFound(id)
	}
	return s.resource(id), nil
}

func (s *shelf) GetAll(_ *http.Request, p scim.ListRequestParams) (scim.Page, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	var found []scim.Resource
	for _, id := range s.order {
		if p.FilterValidator == nil || p.FilterValidator.PassesFilter(s.of[id]) == nil {
			found = append(found, s.resource(id))
		}
	}
	from := min(max(p.StartIndex-1, 0), len(found))
	return scim.Page{TotalResults: len(found), Resources: found[from:min(from+p.Count, len(found))]}, nil
}

func (s *shelf) Replace(_ *http.Request, id string, a scim.ResourceAttributes) (scim.Resource, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.of[id] = a
	return s.resource(id), nil
}

func (s *shelf) Delete(_ *http.Request, id string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.of[id] == nil {
		return errors.ScimErrorResourceNotFound(id)
	}
	delete(s.of, id)
	s.order = slices.DeleteFunc(s.order, func(x string) bool { return x == id })
	return nil
}

func (s *shelf) Patch(_ *http.Request, id string, ops []scim.PatchOperation) (scim.Resource, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	a := s.of[id]
	if a == nil {
		return scim.Resource{}, errors.ScimErrorResourceNotFound(id)
	}
	for _, op := range ops {
		name := op.Path.AttributePath.AttributeName
		list, _ := a[name].([]any)
		switch {
		case op.Path.ValueExpression != nil:
			x, ok := op.Path.ValueExpression.(*filter.AttributeExpression)
			if !ok {
				return scim.Resource{}, errors.ScimErrorInvalidFilter
			}
			a[name] = slices.DeleteFunc(slices.Clone(list), func(e any) bool {
				o, _ := e.(map[string]any)
				return o["value"] == x.CompareValue
			})
		case op.Op == scim.PatchOperationRemove:
			delete(a, name)
		case op.Op == scim.PatchOperationAdd && (name == "roles" || name == "members"):
			more, _ := op.Value.([]any)
			a[name] = append(slices.Clone(list), more...)
		default:
			a[name] = op.Value
		}
	}
	return s.resource(id), nil
}

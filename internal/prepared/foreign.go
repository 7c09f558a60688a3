package prepared

import (
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"sync"

	"github.com/elimity-com/scim"
	"github.com/elimity-com/scim/errors"
	"github.com/elimity-com/scim/schema"
	"github.com/scim2/filter-parser/v2"
)

// Foreign is a SCIM server that others have written, in the library's own configuration: it parses and validates every
// request and writes every answer; here is only where resources are kept.
type Foreign struct {
	http.Handler
	users, groups *shelf
}

// NewForeign starts one with users and groups, each a resource with its id.
func NewForeign(users, groups []map[string]any) (*Foreign, error) {
	f := &Foreign{users: newShelf("u", users), groups: newShelf("g", groups)}
	s, err := scim.NewServer(&scim.ServerArgs{
		ServiceProviderConfig: &scim.ServiceProviderConfig{MaxResults: 50, SupportFiltering: true, SupportPatch: true},
		ResourceTypes: []scim.ResourceType{
			{Name: "User", Endpoint: "/Users", Schema: schema.CoreUserSchema(), Handler: f.users},
			{Name: "Group", Endpoint: "/Groups", Schema: schema.CoreGroupSchema(), Handler: f.groups},
		},
	})
	f.Handler = s
	return f, err
}

// State is what the server has.
func (f *Foreign) State() (users, groups []map[string]any) { return f.users.all(), f.groups.all() }

// Rename changes how a user is displayed, as somebody at a console would.
func (f *Foreign) Rename(userName, shown string) {
	f.users.mu.Lock()
	defer f.users.mu.Unlock()
	for _, r := range f.users.of {
		if r["userName"] == userName {
			r["displayName"] = shown
		}
	}
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

// newShelf starts with what is there.
func newShelf(prefix string, list []map[string]any) *shelf {
	s := &shelf{prefix: prefix, next: len(list), of: map[string]scim.ResourceAttributes{}}
	for _, r := range list {
		id := fmt.Sprint(r["id"])
		s.of[id], s.order = scim.ResourceAttributes(r), append(s.order, id)
		delete(r, "id")
	}
	return s
}

// all are the resources with their ids, as plain JSON.
func (s *shelf) all() (out []map[string]any) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, id := range s.order {
		r := map[string]any{}
		data, err := json.Marshal(s.of[id])
		if err != nil || json.Unmarshal(data, &r) != nil {
			return nil
		}
		r["id"] = id
		out = append(out, r)
	}
	return out
}

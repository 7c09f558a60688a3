package standin

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"
)

const mediaType = "application/scim+json"

// maxBody is how long a request may be, in bytes; maxBulk how many operations it may hold.
const (
	maxBody = 4 << 20
	maxBulk = 100
)

// An answer is what a request comes to.
type answer struct {
	status int
	body   any
	at     string // Location
}

func refuse(status int, kind, detail string) answer {
	e := map[string]any{
		"schemas": []string{
			"urn:ietf:params:scim:api:messages:2.0:Error",
		}, "status": strconv.Itoa(status), "detail": detail,
	}
	if kind != "" {
		e["scimType"] = kind
	}
	return answer{status: status, body: e}
}

func (s *Server) routes() {
	s.mux = http.NewServeMux()
	s.mux.HandleFunc(
		"GET /ServiceProviderConfig",
		s.tells("config", s.config),
	)
	s.mux.HandleFunc("GET /ResourceTypes", s.tells("types", resourceTypes))
	s.mux.HandleFunc("GET /Schemas", s.tells("schemas", s.schemas))
	s.mux.HandleFunc("POST /Bulk", s.hurt(s.bulk))
	for _, kind := range []string{"User", "Group"} {
		all, one := "/"+kind+"s", "/"+kind+"s/{id}"
		s.mux.HandleFunc("GET "+all, s.hurt(func(r *http.Request, _ []byte) answer { return s.list(kind, r) }))
		for _, method := range []string{"POST"} {
			s.mux.HandleFunc(method+" "+all, s.hurt(func(r *http.Request, body []byte) answer {
				return s.do(method, kind, "", r.Header.Get("If-Match"), r.URL.Query(), body)
			}))
		}
		for _, method := range []string{"GET", "PUT", "PATCH", "DELETE"} {
			s.mux.HandleFunc(method+" "+one, s.hurt(func(r *http.Request, body []byte) answer {
				return s.do(method, kind, r.PathValue("id"), r.Header.Get("If-Match"), r.URL.Query(), body)
			}))
		}
	}
}

// tells answers with one of the documents of discovery, where the server has it.
func (s *Server) tells(which string, document func() answer) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) {
		s.mu.Lock()
		how := s.o.As.Discovery
		s.mu.Unlock()
		if how == "none" || how == "partial" && which != "config" {
			write(w, refuse(http.StatusNotFound, "", "there is no such document"))
			return
		}
		write(w, document())
	}
}

// ServeHTTP answers one request.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if s.o.Token != "" && r.Header.Get("Authorization") != "Bearer "+s.o.Token {
		write(w, refuse(http.StatusUnauthorized, "", "the token is missing or wrong"))
		return
	}
	s.mux.ServeHTTP(w, r)
}

func write(w http.ResponseWriter, a answer) {
	if a.at != "" {
		w.Header().Set("Location", a.at)
	}
	w.Header().Set("Content-Type", mediaType)
	w.WriteHeader(a.status)
	if a.body != nil {
		_ = json.NewEncoder(w).Encode(a.body) // whoever asked has gone
	}
}

// hurt answers a request, with the faults that are asked for.
func (s *Server) hurt(f func(*http.Request, []byte) answer) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxBody))
		if err != nil {
			write(w, refuse(http.StatusRequestEntityTooLarge, "", "the request is too long"))
			return
		}
		s.mu.Lock()
		s.requests++
		if n := s.o.As.Expires; n > 0 && s.requests%n == 0 {
			s.mu.Unlock()
			write(w, refuse(http.StatusUnauthorized, "", "the token has expired"))
			return
		}
		o, roll := s.o.Faults, s.chance.Float64()
		over := s.over(time.Now())
		s.mu.Unlock()
		time.Sleep(o.Delay)
		reads := r.Method == http.MethodGet
		pick := func(share float64) bool {
			roll -= share
			return roll < 0 && roll >= -share
		}
		switch {
		case over, pick(o.Busy):
			w.Header().Set("Retry-After", "0.05")
			if o.As.Dates {
				w.Header().Set("Retry-After", time.Now().UTC().Format(http.TimeFormat))
			}
			write(w, refuse(http.StatusTooManyRequests, "", "too many requests"))
		case pick(o.Fail):
			write(w, refuse(http.StatusInternalServerError, "", "something went wrong"))
		case pick(o.Before):
			panic(http.ErrAbortHandler)
		case pick(o.After):
			f(r, body)
			panic(http.ErrAbortHandler)
		case pick(o.Broken):
			f(r, body)
			write(w, refuse(http.StatusInternalServerError, "", "something went wrong"))
		case pick(o.Lie) && !reads:
			s.lie(w, r, body)
		default:
			if a := f(r, body); a.status >= http.StatusBadRequest && o.As.Pages {
				page(w, a.status)
			} else {
				write(w, a)
			}
		}
	}
}

// over reports whether a request is one too many in its second.
func (s *Server) over(now time.Time) bool {
	if s.o.Limit <= 0 {
		return false
	}
	if now.Sub(s.window) > time.Second {
		s.window, s.inWindow = now, 0
	}
	s.inWindow++
	return s.inWindow > s.o.Limit
}

// lie says yes and does nothing.
func (s *Server) lie(w http.ResponseWriter, r *http.Request, body []byte) {
	var sent map[string]any
	switch {
	case json.Unmarshal(body, &sent) != nil:
		write(w, answer{status: http.StatusNoContent})
	case strings.HasSuffix(r.URL.Path, "/Bulk"):
		var ops []any
		list, _ := sent["Operations"].([]any)
		for range list {
			ops = append(ops, map[string]any{"status": "200"})
		}
		write(w, answer{status: http.StatusOK, body: map[string]any{
			"schemas": []string{"urn:ietf:params:scim:api:messages:2.0:BulkResponse"}, "Operations": ops,
		}})
	case r.Method == http.MethodPost:
		sent["id"] = "never"
		write(w, answer{status: http.StatusCreated, body: sent})
	default:
		write(w, answer{status: http.StatusNoContent})
	}
}

func (s *Server) config() answer {
	s.mu.Lock()
	defer s.mu.Unlock()
	yes := func(b bool) map[string]any { return map[string]any{"supported": b} }
	lies := s.o.As.Discovery == "lies"
	bulk := yes(!s.o.NoBulk || lies)
	bulk["maxOperations"], bulk["maxPayloadSize"] = maxBulk, maxBody
	filter := yes(!s.o.NoFilter || lies)
	filter["maxResults"] = 200
	if s.o.Page > 0 {
		filter["maxResults"] = s.o.Page
	}
	return answer{status: http.StatusOK, body: map[string]any{
		"schemas": []string{"urn:ietf:params:scim:schemas:core:2.0:ServiceProviderConfig"},
		"patch":   yes(!s.o.NoPatch || lies), "bulk": bulk, "filter": filter, "etag": yes(s.o.As.Version != "none" || lies), "sort": yes(false),
		"changePassword": yes(false), "pagination": map[string]any{"cursor": s.o.Cursor, "index": true},
		"authenticationSchemes": []any{map[string]any{"type": "oauthbearertoken", "name": "Bearer token"}},
	}}
}

func listResponse(resources []any) answer {
	return answer{status: http.StatusOK, body: map[string]any{
		"schemas":      []string{"urn:ietf:params:scim:api:messages:2.0:ListResponse"},
		"totalResults": len(resources), "Resources": resources,
	}}
}

func resourceTypes() answer {
	var out []any
	for _, kind := range []string{"User", "Group"} {
		out = append(out, map[string]any{
			"schemas": []string{"urn:ietf:params:scim:schemas:core:2.0:ResourceType"}, "id": kind, "name": kind,
			"endpoint": "/" + kind + "s", "schema": "urn:ietf:params:scim:schemas:core:2.0:" + kind,
		})
	}
	return listResponse(out)
}

func (s *Server) schemas() answer {
	list := func(id string, names ...string) any {
		var attrs []any
		for _, name := range names {
			a := map[string]any{"name": name, "type": "string", "mutability": "readWrite"}
			if name == "groups" {
				a["mutability"] = "readOnly"
			}
			attrs = append(attrs, a)
		}
		return map[string]any{"id": id, "attributes": attrs}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	extensions := map[string][]string{}
	for _, r := range s.users.of {
		for key, v := range r {
			if o, ok := v.(map[string]any); ok && strings.HasPrefix(key, "urn:") {
				for name := range o {
					if !slices.Contains(extensions[key], name) {
						extensions[key] = append(extensions[key], name)
					}
				}
			}
		}
	}
	enterprise := "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
	extensions[enterprise] = []string{
		"department", "division", "organization", "costCenter", "employeeNumber", "manager",
	}
	out := []any{
		list("urn:ietf:params:scim:schemas:core:2.0:User", "userName", "name", "displayName", "title", "userType",
			"active", "emails", "phoneNumbers", "groups", "roles", "entitlements", "locale", "timezone", "nickName",
			"preferredLanguage"),
		list("urn:ietf:params:scim:schemas:core:2.0:Group", "displayName", "members"),
	}
	for id, names := range extensions {
		out = append(out, list(id, names...))
	}
	return listResponse(out)
}

// shown is a resource as it is shown now: as it was before, where what was written is not
// seen yet.
func (s *Server) shown(st *store, id string) (resource, bool) {
	if p, ok := st.old[id]; ok {
		if time.Now().Before(p.until) {
			return p.was, p.was != nil
		}
		delete(st.old, id)
	}
	r, ok := st.of[id]
	return r, ok
}

// list answers a query (RFC 7644 §3.4.2).
func (s *Server) list(kind string, r *http.Request) answer {
	q := r.URL.Query()
	s.mu.Lock()
	defer s.mu.Unlock()
	st := s.users
	if kind == "Group" {
		st = s.groups
	}
	var match func(resource) bool
	if text := q.Get("filter"); text != "" {
		if s.o.NoFilter {
			return refuse(http.StatusForbidden, "invalidFilter", "filters are not supported")
		}
		var err error
		if s.o.As.OneFilter && strings.Contains(text, " or ") {
			return refuse(http.StatusBadRequest, "invalidFilter", "one comparison at a time")
		}
		if match, err = parseFilter(text); err != nil {
			return refuse(http.StatusBadRequest, "invalidFilter", "the filter cannot be read")
		}
	}
	memberships := s.memberships(kind)
	found := st.order
	if match != nil || len(st.old) > 0 {
		found = nil
		for _, id := range st.order {
			x, ok := s.shown(st, id)
			if ok && (match == nil || match(x)) {
				found = append(found, id)
			}
		}
	}
	for id, p := range st.old { // what was removed and is shown still; found is a copy then
		if _, there := st.of[id]; !there && p.was != nil && time.Now().Before(p.until) &&
			(match == nil || match(p.was)) {
			found = append(found, id)
		}
	}
	start, count := 1, len(found)
	if n, err := strconv.Atoi(q.Get("startIndex")); err == nil {
		start = max(n, 1)
		if s.o.As.FromZero {
			start = max(n, 0) + 1
		}
	}
	if q.Has("cursor") && q.Get("cursor") != "" {
		n, err := strconv.Atoi(strings.TrimPrefix(q.Get("cursor"), "c"))
		if err != nil {
			return refuse(http.StatusBadRequest, "invalidCursor", "there is no such cursor")
		}
		start = n
	}
	if n, err := strconv.Atoi(q.Get("count")); err == nil && n >= 0 {
		count = n
	}
	if s.o.Page > 0 {
		count = min(count, s.o.Page)
	}
	if n := s.o.As.OwnPages; n > 0 {
		count = n
	}
	from := min(start-1, len(found))
	to := min(from+count, len(found))
	resources := []any{}
	for _, id := range found[from:to] {
		x, _ := s.shown(st, id)
		r := s.dress(kind, x, memberships, strings.Contains(q.Get("excludedAttributes"), "members"))
		s.o.As.shy(r, q.Get("attributes"), true)
		resources = append(resources, r)
	}
	out := map[string]any{
		"schemas":      []string{"urn:ietf:params:scim:api:messages:2.0:ListResponse"},
		"totalResults": len(found), "startIndex": start, "itemsPerPage": len(resources), "Resources": resources,
	}
	switch s.o.As.Totals {
	case "none":
		delete(out, "totalResults")
	case "low":
		out["totalResults"] = max(len(found)-2, 0)
	case "moving":
		if s.moves++; s.moves < 4 {
			out["totalResults"] = len(found) + s.moves
		}
	}
	if q.Has("cursor") && to < len(found) {
		out["nextCursor"] = fmt.Sprintf("c%d", to+1)
	}
	return answer{status: http.StatusOK, body: out}
}

// memberships are the groups of each user by its id, for answers about users.
func (s *Server) memberships(kind string) map[string][]any {
	if kind != "User" || s.o.NoGroupsOfUsers {
		return nil
	}
	out := map[string][]any{}
	for _, gid := range s.groups.order {
		g, ok := s.shown(s.groups, gid)
		if !ok {
			continue
		}
		members, _ := g["members"].([]any)
		for _, m := range members {
			if o, ok := m.(map[string]any); ok {
				id, _ := o["value"].(string)
				out[id] = append(out[id], map[string]any{"value": gid, "display": g["displayName"], "type": "direct"})
			}
		}
	}
	return out
}

// dress is a resource as it is answered.
func (s *Server) dress(kind string, r resource, memberships map[string][]any, short bool) resource {
	out := make(resource, len(r)+1)
	for k, v := range r {
		if k != "members" || !short {
			out[k] = v
		}
	}
	if kind == "User" && !s.o.NoGroupsOfUsers {
		id, _ := r["id"].(string)
		out["groups"] = append([]any{}, memberships[id]...)
	}
	return s.worn(kind, out)
}

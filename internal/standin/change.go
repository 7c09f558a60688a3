package standin

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"reflect"
	"strings"
	"time"
)

// do carries one request about one resource out.
func (s *Server) do(method, kind, id, version string, q url.Values, body []byte) answer {
	s.mu.Lock()
	defer s.mu.Unlock()
	st := s.users
	if kind == "Group" {
		st = s.groups
	}
	if method == http.MethodGet {
		r, ok := s.shown(st, id)
		if !ok {
			return refuse(http.StatusNotFound, "", "there is no such resource")
		}
		out := s.dress(kind, r, s.memberships(kind), false)
		s.o.As.shy(out, q.Get("attributes"), false)
		return answer{status: http.StatusOK, body: out}
	}
	var sent map[string]any
	if method != http.MethodDelete && json.Unmarshal(body, &sent) != nil {
		return refuse(http.StatusBadRequest, "invalidSyntax", "the body is no JSON object")
	}
	if method == http.MethodPost {
		return s.create(st, kind, sent)
	}
	was, ok := st.of[id]
	if !ok {
		return refuse(http.StatusNotFound, "", "there is no such resource")
	}
	meta, _ := was["meta"].(map[string]any)
	number := 0
	_, _ = fmt.Sscanf(fmt.Sprint(meta["version"]), `W/"%d"`, &number)
	if is := s.o.As.version(kind, number); version != "" && is != "" && version != is {
		return refuse(http.StatusPreconditionFailed, "", "the resource has changed")
	}
	if method == http.MethodDelete {
		s.keep(st, id, was)
		st.remove(id)
		s.note("removed", was, "")
		return s.saved(answer{status: http.StatusNoContent})
	}
	now := clone(was)
	if method == http.MethodPut {
		if a, no := s.o.As.refuses(sent); no {
			return a
		}
		sent["id"], sent["meta"] = id, was["meta"]
		delete(sent, "groups")
		now = sent
	} else if s.o.NoPatch {
		return refuse(http.StatusNotImplemented, "", "PATCH is not supported")
	} else if a, ok := s.patch(now, sent); !ok {
		return a
	}
	s.o.As.kept(now)
	if taken, clash := st.names[nameOf(now)]; clash && taken != id {
		return refuse(http.StatusConflict, "uniqueness", "the name is taken")
	}
	said := difference(was, now)
	if len(said) == 0 {
		s.note("again", was, "nothing to change")
		return answer{status: http.StatusOK, body: s.dress(kind, was, s.memberships(kind), false)}
	}
	for _, what := range said {
		s.note("changed", was, what)
	}
	stamp(now, kind)
	s.keep(st, id, was)
	st.put(now)
	shown := now
	if s.o.As.OldBody {
		shown = was
	}
	return s.saved(answer{status: http.StatusOK, body: s.dress(kind, shown, s.memberships(kind), false)})
}

func (s *Server) create(st *store, kind string, r resource) answer {
	name := nameOf(r)
	if name == "" {
		return refuse(http.StatusBadRequest, "invalidValue", "the name is missing")
	}
	if _, taken := st.names[name]; taken {
		s.note("again", r, "refused, as the name is taken")
		return refuse(http.StatusConflict, "uniqueness", "the name is taken")
	}
	id := st.fresh()
	r["id"] = id
	delete(r, "groups")
	delete(r, "meta")
	s.o.As.kept(r)
	stamp(r, kind)
	s.keep(st, id, nil)
	st.put(r)
	s.note("created", r, "")
	return s.saved(answer{status: http.StatusCreated, body: r, at: "/" + kind + "s/" + id})
}

// keep remembers how a resource was, for as long as that is shown.
func (s *Server) keep(st *store, id string, was resource) {
	if s.o.Late <= 0 {
		return
	}
	if p, ok := st.old[id]; ok && time.Now().Before(p.until) {
		was = p.was
	}
	st.old[id] = past{was, time.Now().Add(s.o.Late)}
}

func (s *Server) note(what string, r resource, more string) {
	s.log = append(s.log, strings.TrimSpace(fmt.Sprintf("%s %s %s", what, nameOf(r), more)))
}

func (s *Server) saved(a answer) answer {
	if err := s.save(); err != nil {
		return refuse(http.StatusInternalServerError, "", "the state cannot be kept")
	}
	return a
}

// difference tells what differs between two states of a resource, each once: an attribute,
// or an entry of a list.
func difference(a, b resource) (out []string) {
	seen := map[string]bool{}
	for _, r := range []resource{a, b} {
		for k := range r {
			if seen[k] || k == "meta" || k == "schemas" {
				continue
			}
			seen[k] = true
			if reflect.DeepEqual(plain(a[k]), plain(b[k])) {
				continue
			}
			x, isList := plain(a[k]).([]any)
			y, both := plain(b[k]).([]any)
			if !isList && a[k] != nil || !both && b[k] != nil {
				out = append(out, fmt.Sprintf("%s=%v", k, b[k]))
				continue
			}
			for _, v := range y {
				if !has(x, v) {
					out = append(out, fmt.Sprintf("%s+%s", k, valueOf(v)))
				}
			}
			for _, v := range x {
				if !has(y, v) {
					out = append(out, fmt.Sprintf("%s-%s", k, valueOf(v)))
				}
			}
		}
	}
	return out
}

func plain(v any) any {
	data, err := json.Marshal(v)
	if err != nil {
		return v
	}
	var out any
	if json.Unmarshal(data, &out) != nil {
		return v
	}
	return out
}

func has(list []any, v any) bool {
	for _, x := range list {
		if valueOf(x) == valueOf(v) {
			return true
		}
	}
	return false
}

func valueOf(v any) string {
	if o, ok := v.(map[string]any); ok {
		return fmt.Sprint(o["value"])
	}
	return fmt.Sprint(v)
}

// bulk carries several requests out, one after the other (RFC 7644 §3.7).
func (s *Server) bulk(_ *http.Request, body []byte) answer {
	if s.o.NoBulk || s.o.As.Discovery == "lies" {
		return refuse(http.StatusNotImplemented, "", "Bulk is not supported")
	}
	var sent struct {
		Operations []struct {
			Method, Path, BulkID, Version string
			Data                          json.RawMessage
		}
	}
	if json.Unmarshal(body, &sent) != nil {
		return refuse(http.StatusBadRequest, "invalidSyntax", "the body is no Bulk request")
	}
	if len(sent.Operations) > maxBulk {
		return refuse(http.StatusRequestEntityTooLarge, "tooMany", "too many operations")
	}
	var out []any
	for _, op := range sent.Operations {
		parts := strings.Split(strings.Trim(op.Path, "/"), "/")
		kind, id := strings.TrimSuffix(parts[0], "s"), ""
		if len(parts) > 1 {
			id, _ = url.PathUnescape(parts[1])
		}
		a := refuse(http.StatusBadRequest, "invalidPath", "there is no such path")
		if kind == "User" || kind == "Group" {
			a = s.do(op.Method, kind, id, op.Version, nil, op.Data)
		}
		part := map[string]any{
			"method":   op.Method,
			"status":   fmt.Sprint(a.status),
			"bulkId":   op.BulkID,
			"location": a.at,
		}
		if a.status >= http.StatusBadRequest {
			part["response"] = a.body
		}
		out = append(out, part)
	}
	return answer{status: http.StatusOK, body: map[string]any{
		"schemas": []string{"urn:ietf:params:scim:api:messages:2.0:BulkResponse"}, "Operations": out,
	}}
}

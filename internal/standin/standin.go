// Package standin plays business applications that are reached by SCIM 2.0 (RFC 7643,
// RFC 7644, RFC 9865), for demonstrations and tests: a few resources in memory, kept in a
// file, and faults on request. It is made to misbehave as real applications do, and to keep
// a log of what really happened to it. It is no server for anybody's real data.
//
//	s, err := standin.New(standin.Options{Token: "secret", State: "berths.json"})
//	http.Serve(listener, s)
package standin

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"
)

// Options are how a stand-in behaves.
type Options struct {
	Token string // the bearer token that callers need; "" for any
	State string // the file that its state is kept in; "" for none
	Faults
}

// Faults are how it misbehaves. Shares are between 0 and 1, of all requests but those of
// discovery.
type Faults struct {
	Seed   uint64
	Delay  time.Duration // before each answer
	Busy   float64       // 429 with Retry-After
	Fail   float64       // 500, before anything is done
	Broken float64       // 500, after the work
	Before float64       // the connection is dropped before the work
	After  float64       // the connection is dropped after the work
	Lie    float64       // it says yes and does nothing
	Late   time.Duration // what was written is seen only after that
	Limit  int           // requests a second; what is more gets 429

	NoPatch, NoBulk, NoFilter, Cursor, NoGroupsOfUsers bool
	Page                                               int // resources in one answer at the most; 0: no limit

	As Personality
}

// A resource is a user or a group.
type resource = map[string]any

// A Server is a stand-in for one application. It is safe for concurrent use.
type Server struct {
	o   Options
	mux *http.ServeMux

	mu       sync.Mutex
	chance   *rand.Rand
	users    *store
	groups   *store
	requests int
	log      []string
	moves    int       // lists of which the total was wrong
	window   time.Time // of the limit
	inWindow int
}

// A store keeps resources of one type, and what they were before they were last written.
type store struct {
	of     map[string]resource
	order  []string
	old    map[string]past
	next   int
	prefix string            // of ids, which are of one resource only (RFC 7643 §3.1)
	odd    bool              // ids have letters that mean something elsewhere
	names  map[string]string // user name or display name, in small letters → id
}

// past is what is shown of a resource for a while after it was written.
type past struct {
	was   resource // nil where it was not there
	until time.Time
}

// New starts a stand-in with the state of its file, if it has one.
func New(o Options) (*Server, error) {
	s := &Server{o: o, chance: rand.New(rand.NewPCG(o.Seed, 1)), users: newStore("u"), groups: newStore("g")}
	s.users.odd, s.groups.odd = o.As.OddIDs, o.As.OddIDs
	s.routes()
	if o.State == "" {
		return s, nil
	}
	data, err := os.ReadFile(o.State)
	if errors.Is(err, fs.ErrNotExist) {
		return s, nil
	}
	var kept struct{ Users, Groups []resource }
	if err == nil {
		err = json.Unmarshal(data, &kept)
	}
	if err != nil {
		return nil, fmt.Errorf("the state of the stand-in cannot be read: %w", err)
	}
	for _, r := range kept.Users {
		s.users.put(r)
	}
	for _, r := range kept.Groups {
		s.groups.put(r)
	}
	return s, nil
}

func newStore(prefix string) *store {
	return &store{prefix: prefix, of: map[string]resource{}, old: map[string]past{}, names: map[string]string{}}
}

// put adds or replaces a resource.
func (st *store) put(r resource) {
	id, _ := r["id"].(string)
	if was, ok := st.of[id]; ok {
		delete(st.names, nameOf(was))
	} else {
		st.order = append(st.order, id)
	}
	st.of[id] = r
	st.names[nameOf(r)] = id
	st.next = max(st.next, len(st.order))
}

func nameOf(r resource) string {
	for _, key := range []string{"userName", "displayName"} {
		if name, ok := r[key].(string); ok {
			return strings.ToLower(name)
		}
	}
	return ""
}

func (st *store) remove(id string) {
	delete(st.names, nameOf(st.of[id]))
	delete(st.of, id)
	st.order = slices.DeleteFunc(st.order, func(x string) bool { return x == id })
}

// fresh is an id that was never given.
func (st *store) fresh() string {
	for {
		st.next++
		id := fmt.Sprintf("%s%06x", st.prefix, st.next*2654435761%0xffffff)
		if st.odd {
			id = fmt.Sprintf("%s/%d ?#%%\"'+:", st.prefix, st.next)
		}
		if _, taken := st.of[id]; !taken {
			return id
		}
	}
}

// AddUser gives the stand-in a user, as RFC 7643 §4.1 has it; it gets an id where it has
// none, and schemas.
func (s *Server) AddUser(r resource) (id string) { return s.add(s.users, "User", r) }

// AddGroup gives it a group with the ids of its members.
func (s *Server) AddGroup(name string, members ...string) (id string) {
	r := resource{"displayName": name}
	var list []any
	for _, m := range members {
		list = append(list, map[string]any{"value": m})
	}
	if list != nil {
		r["members"] = list
	}
	return s.add(s.groups, "Group", r)
}

func (s *Server) add(st *store, kind string, r resource) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	if r["id"] == nil {
		r["id"] = st.fresh()
	}
	stamp(r, kind)
	st.put(r)
	id, _ := r["id"].(string)
	return id
}

// stamp gives a resource a new version.
func stamp(r resource, kind string) {
	n := 1
	if meta, ok := r["meta"].(map[string]any); ok {
		_, _ = fmt.Sscanf(fmt.Sprint(meta["version"]), `W/"%d"`, &n)
		n++
	}
	r["meta"] = map[string]any{"resourceType": kind, "version": fmt.Sprintf(`W/"%d"`, n)}
	if r["schemas"] == nil {
		r["schemas"] = []any{"urn:ietf:params:scim:schemas:core:2.0:" + kind}
	}
}

// Save writes the state to its file.
func (s *Server) Save() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.save()
}

func (s *Server) save() error {
	if s.o.State == "" {
		return nil
	}
	kept := struct{ Users, Groups []resource }{s.users.all(), s.groups.all()}
	data, err := json.MarshalIndent(kept, "", "  ")
	if err != nil {
		return err
	}
	beside := filepath.Join(filepath.Dir(s.o.State), "."+filepath.Base(s.o.State)+".new")
	if err := os.WriteFile(beside, data, 0o600); err != nil {
		return err
	}
	return os.Rename(beside, s.o.State)
}

func (st *store) all() []resource {
	out := make([]resource, 0, len(st.order))
	for _, id := range st.order {
		out = append(out, st.of[id])
	}
	return out
}

// Requests is how many requests came.
func (s *Server) Requests() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.requests
}

// Log is what really happened: one line for each change that changed something, and one
// for each that came again.
func (s *Server) Log() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.log)
}

// SetFaults changes how it misbehaves.
func (s *Server) SetFaults(f Faults) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.o.Faults = f
	s.users.odd, s.groups.odd = f.As.OddIDs, f.As.OddIDs
}

// User is a user by name, as the stand-in has it, and whether there is one.
func (s *Server) User(name string) (resource, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	r, ok := s.users.of[s.users.names[strings.ToLower(name)]]
	return r, ok
}

// Change changes a user behind everybody's back, as somebody at a console would.
func (s *Server) Change(name string, change func(resource)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if r, ok := s.users.of[s.users.names[strings.ToLower(name)]]; ok {
		r = clone(r)
		change(r)
		stamp(r, "User")
		s.users.put(r)
	}
}

func clone(r resource) resource {
	data, err := json.Marshal(r)
	if err != nil {
		return r
	}
	var out resource
	if json.Unmarshal(data, &out) != nil {
		return r
	}
	return out
}

// Remove removes a user behind everybody's back.
func (s *Server) Remove(name string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if id, ok := s.users.names[strings.ToLower(name)]; ok {
		s.users.remove(id)
	}
}

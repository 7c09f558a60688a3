package standin

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"reflect"
	"slices"
	"strings"
	"time"
)

// A Personality is how a server is within what RFC 7643 and RFC 7644 leave open, and in ways that servers have besides.
// The zero Personality is the plainest server.
type Personality struct {
	OneFilter bool   // a filter is one comparison by eq
	FromZero  bool   // startIndex counts from 0
	Totals    string // "", "none", "low": two too few, "moving": one more at first
	OwnPages  int    // resources in one answer, whatever was asked for
	Members   string // "", "asked": only to who names them under attributes
	Cut       int    // so many members of a group are shown in a list
	CutAll    bool   // and of a group by itself
	Groups    string // of users: "", "value", "ref": no display; "empty": none is ever said
	Lower     bool   // user names are kept in small letters
	Shuffled  bool   // emails come in another order each time
	Texts     bool   // roles are texts
	Version   string // "", "strong", "none", "users": groups have none
	Strict    bool   // what is read-only is refused in a PUT
	OldBody   bool   // a change is answered with what was before
	Dates     bool   // Retry-After is a date
	OddIDs    bool   // ids have letters that mean something elsewhere
	ActiveTxt bool   // active is a text
	Pages     bool   // errors come as pages of HTML
	Discovery string // "", "none", "partial", "lies": it says more than it can
	Expires   int    // every so many requests the token is not accepted once
}

// Draw draws how a server is, and with it how it misbehaves where that is no fault. The same seed gives the same
// server.
func Draw(seed uint64) Faults {
	r := rand.New(rand.NewPCG(seed, 77))
	yes := func(share float64) bool { return r.Float64() < share }
	one := func(of ...string) string { return of[r.IntN(len(of))] }
	f := Faults{
		Seed: seed, NoPatch: yes(0.4), NoBulk: yes(0.6), NoFilter: yes(0.2), Cursor: yes(0.2), NoGroupsOfUsers: yes(0.25),
	}
	if yes(0.5) {
		f.Page = 2 + r.IntN(6)
	}
	p := &f.As
	p.OneFilter, p.Lower, p.Shuffled, p.Texts = yes(0.2), yes(0.2), yes(0.2), yes(0.2)
	p.Strict, p.OldBody, p.Dates, p.OddIDs = yes(0.3), yes(0.2), yes(0.3), yes(0.3)
	p.ActiveTxt, p.Pages = yes(0.2), yes(0.2)
	p.Version, p.Discovery = one("", "strong", "none", "none", "users"), one("", "", "", "none", "partial", "lies")
	p.Groups, p.Members = one("", "", "value", "ref", "empty"), one("", "", "asked")
	if yes(0.3) {
		p.Cut = 2 + r.IntN(12)
		if p.CutAll = yes(0.5); p.CutAll { // which nobody could tell from a group of as many, were the number not round
			p.Cut = 20
		}
	}
	if !f.Cursor {
		p.FromZero, p.Totals = yes(0.1), one("", "", "", "", "none", "low", "moving")
		if yes(0.2) {
			p.OwnPages = 1 + r.IntN(5)
		}
	}
	if yes(0.2) {
		p.Expires = 7 + r.IntN(20)
	}
	if yes(0.3) {
		f.Late = time.Duration(50+r.IntN(400)) * time.Millisecond
	}
	if yes(0.3) {
		f.Busy, f.After, f.Broken = r.Float64()*0.1, r.Float64()*0.05, r.Float64()*0.05
	}
	return f
}

// Simpler are the servers that differ from one in a single way less, for whoever looks for the ways that matter.
func Simpler(f Faults) (out []Faults) {
	less := func(at func(*Faults) reflect.Value) {
		for i := range at(&f).NumField() {
			x := f
			if v := at(&x).Field(i); v.Kind() != reflect.Struct && !v.IsZero() && at(&x).Type().Field(i).Name != "Seed" {
				v.SetZero()
				out = append(out, x)
			}
		}
	}
	less(func(x *Faults) reflect.Value { return reflect.ValueOf(x).Elem() })
	less(func(x *Faults) reflect.Value { return reflect.ValueOf(&x.As).Elem() })
	return out
}

// versions are the forms in which a server tells the version of a resource, "" for none.
func (p *Personality) version(kind string, n int) string {
	switch {
	case p.Version == "none", p.Version == "users" && kind == "Group":
		return ""
	case p.Version == "strong":
		return fmt.Sprintf(`"%d"`, n)
	}
	return fmt.Sprintf(`W/"%d"`, n)
}

// worn is a resource as a server of this personality shows it.
func (s *Server) worn(kind string, r resource) resource {
	p := &s.o.As
	delete(r, "password") // never shown (RFC 7643 §4.1.1)
	if active, ok := r["active"].(bool); ok && p.ActiveTxt {
		r["active"] = fmt.Sprint(active)
	}
	if roles, ok := r["roles"].([]any); ok && p.Texts {
		var texts []any
		for _, x := range roles {
			texts = append(texts, valueOf(x))
		}
		r["roles"] = texts
	}
	if emails, ok := r["emails"].([]any); ok && p.Shuffled {
		emails = slices.Clone(emails)
		s.chance.Shuffle(len(emails), func(i, j int) { emails[i], emails[j] = emails[j], emails[i] })
		r["emails"] = emails
	}
	if meta, ok := r["meta"].(map[string]any); ok {
		n := 0
		_, _ = fmt.Sscanf(fmt.Sprint(meta["version"]), `W/"%d"`, &n)
		shown := map[string]any{"resourceType": kind}
		if v := p.version(kind, n); v != "" {
			shown["version"] = v
		}
		r["meta"] = shown
	}
	groups, _ := r["groups"].([]any)
	switch {
	case kind != "User":
	case p.Groups == "empty":
		r["groups"] = []any{}
	case p.Groups == "value" || p.Groups == "ref":
		var less []any
		for _, x := range groups {
			o, _ := x.(map[string]any)
			if p.Groups == "value" {
				less = append(less, map[string]any{"value": o["value"]})
			} else {
				less = append(less, map[string]any{"$ref": "../Groups/" + escaped(fmt.Sprint(o["value"]))})
			}
		}
		r["groups"] = less
	}
	return r
}

func escaped(id string) string {
	return strings.NewReplacer("%", "%25", " ", "%20", "/", "%2F", "?", "%3F", "#", "%23", "\"", "%22").Replace(id)
}

// shy leaves members out, or some of them, as they are asked for.
func (p *Personality) shy(r resource, attributes string, inList bool) {
	members, _ := r["members"].([]any)
	if p.Members == "asked" && !strings.Contains(attributes, "members") {
		delete(r, "members")
	} else if p.Cut > 0 && len(members) > p.Cut && (inList || p.CutAll) {
		r["members"] = members[:p.Cut]
	}
}

// kept is a resource that was sent, as this server keeps it.
func (p *Personality) kept(r resource) {
	if name, ok := r["userName"].(string); ok && p.Lower {
		r["userName"] = strings.ToLower(name)
	}
	if text, ok := r["active"].(string); ok {
		r["active"] = strings.EqualFold(text, "true")
	}
	if roles, ok := r["roles"].([]any); ok {
		var out []any
		for _, x := range roles {
			if text, ok := x.(string); ok {
				x = map[string]any{"value": text}
			}
			out = append(out, x)
		}
		r["roles"] = out
	}
}

// refuses is what a strict server says to a resource with what is read-only.
func (p *Personality) refuses(sent resource) (answer, bool) {
	for _, name := range []string{"meta", "groups"} {
		if _, there := sent[name]; there && p.Strict {
			return refuse(http.StatusBadRequest, "mutability", name+" is read-only"), true
		}
	}
	return answer{}, false
}

// page is an error as a page of HTML.
func page(w http.ResponseWriter, status int) {
	w.Header().Set("Content-Type", "text/html")
	w.WriteHeader(status)
	_, _ = fmt.Fprintf(w, "<html><body><h1>%d</h1></body></html>", status)
}

// State is what the server really has: its users and groups, as it keeps them.
func (s *Server) State() (users, groups []map[string]any) {
	s.mu.Lock()
	defer s.mu.Unlock()
	data, err := json.Marshal(struct{ Users, Groups []resource }{s.users.all(), s.groups.all()})
	if err != nil {
		return nil, nil
	}
	var out struct{ Users, Groups []map[string]any }
	if json.Unmarshal(data, &out) != nil {
		return nil, nil
	}
	return out.Users, out.Groups
}

//go:build unix

package main_test

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"
	"testing"
	"time"

	"pravet/internal/standin"

	"github.com/stretchr/testify/require"
)

// A world is people with what they should have in the application yard, and what there is before: some accounts are
// missing, some have what they should not, and some belong to nobody.
type world struct {
	seed   uint64
	people []member
}

// A member is one person: how their account should be, and how it is.
type member struct {
	name      string
	is, due   holding
	email     []string // besides the one that is ours
	otherRole bool     // one that Pravet does not manage
}

// A holding is what an account is and has. An account that is not there has nothing.
type holding struct {
	There, Open      bool
	Shown, Email     string
	Crew, Deck, Lead bool
}

func drawWorld(seed uint64) *world {
	r := rand.New(rand.NewPCG(seed, 5))
	yes := func(share float64) bool { return r.Float64() < share }
	w := &world{seed: seed}
	for i := range 8 + r.IntN(30) {
		p := member{name: fmt.Sprintf("p%02d.Person", i)}
		p.due = holding{
			true, true, fmt.Sprintf("Person %d", i), fmt.Sprintf("p%d@ferries.example", i), true, yes(0.4), yes(0.4),
		}
		switch {
		case yes(0.1): // somebody who has left
			p.due.Open = false
		case yes(0.15): // nobody's
			p.due = holding{}
		}
		p.is = p.due
		switch {
		case !p.due.There:
			p.is = holding{true, true, "Somebody", "nobody@ferries.example", yes(0.5), yes(0.5), yes(0.5)}
		case !p.due.Open:
			p.is.Open = true // and they keep what they have
		case yes(0.25):
			p.is = holding{}
		default:
			p.is.Open = !yes(0.1)
			p.is.Crew, p.is.Deck, p.is.Lead = !yes(0.3), p.due.Deck != yes(0.3), p.due.Lead != yes(0.3)
			if yes(0.3) {
				p.is.Shown = "Old name"
			}
			if yes(0.3) {
				p.is.Email = fmt.Sprintf("old%d@ferries.example", i)
			}
		}
		if p.is.There && yes(0.3) {
			p.email = append(p.email, fmt.Sprintf("more%d@ferries.example", i))
		}
		p.otherRole = p.is.There && yes(0.3)
		w.people = append(w.people, p)
	}
	return w
}

// repo writes the files that say what is due.
func (w *world) repo(t *testing.T, connect, app string) string {
	t.Helper()
	dir := t.TempDir()
	var people strings.Builder
	people.WriteString("id,userName,displayName,email,title,location,ends\n")
	for i, p := range w.people {
		if !p.due.There {
			continue
		}
		title, room, ends := "", "", ""
		if p.due.Lead {
			title = "Lead"
		}
		if p.due.Deck {
			room = "Deck"
		}
		if !p.due.Open {
			ends = "2026-01-31"
		}
		fmt.Fprintf(&people, "%d,%s,%s,%s,%s,%s,%s\n", i+1, p.name, p.due.Shown, p.due.Email, title, room, ends)
	}
	for name, text := range map[string]string{
		"pravet.yaml": "organization: Marrowick Ferries\nguards: {exportAge: P10Y, suspensions: 100%, narrowing: 100%, " +
			"exportShrink: 100%, removals: 100}\n",
		"people/all.csv": people.String(),
		"kits/all.yaml": "kits:\n  all: {everyone: true, gives: {yard: {groups: [crew]}}}\n" +
			"  decks: {for: 'location eq \"Deck\"', gives: {yard: {groups: [deck]}}}\n" +
			"  leads: {for: 'title eq \"Lead\"', gives: {yard: {roles: [lead]}}}\n",
		"apps/yard.yaml": "app: yard\nconnect:\n" + connect + "match: userName\nstrays: report\ngroups: {crew: {}, deck: {}}\n" +
			"roles: {lead: {}}\naccount: {userName: userName, displayName: displayName" + app + "}\n",
	} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	return dir
}

// A peer is a server, read by other means than Pravet's.
type peer struct {
	server *yardServer
	play   *standin.Server // of SCIM
	attrs  string          // what the application's file says of attributes besides their names
	calm   time.Duration   // how long what was changed may not be seen
	plain  bool            // nothing about it keeps a change from being done
	faulty bool            // requests fail by chance, and a run may need to be repeated
	// read returns the accounts by name, and all else that is there as texts, which nobody may change.
	read func() (accounts map[string]holding, rest []string)
}

// lived fetches, drafts, applies, fetches and drafts again. It returns what is wrong: "" where there are no changes
// left and the server has just what it should, or where changes are left that say why. right reports the former.
func lived(t *testing.T, w *world, p *peer) (right bool, wrong, said string) {
	t.Helper()
	repo := w.repo(t, strings.ReplaceAll(p.server.connect, "ADDRESS", p.server.address), cmp.Or(p.attrs, ", email: email"))
	authority(t, p, repo)
	before, rest := p.read()
	run := func(args ...string) (int, string) {
		status, out := p.server.run(t, repo, nil, args...)
		said += fmt.Sprintf("$ pravet %s\n%s-> %d\n", strings.Join(args, " "), out, status)
		return status, out
	}
	changes, held := -1, 0
	for range 4 {
		status, out := run("draft", "--fetch")
		if status != 0 {
			if !p.faulty && status == 1 {
				break // it was said, and nothing was done
			}
			continue
		}
		var id string
		_, err := fmt.Sscanf(out[max(strings.Index(out, "Plan "), 0):], "Plan %s", &id)
		require.NoError(t, err, out)
		changes, held = counted(out)
		if changes == held {
			break
		}
		run("apply", id, "--yes")
		time.Sleep(p.calm)
	}
	after, restAfter := p.read()
	if !slices.Equal(rest, restAfter) {
		return false, "what is not Pravet's was changed: " + differing(rest, restAfter) + "\n", said
	}
	for name := range after {
		if !slices.ContainsFunc(w.people, func(m member) bool { return m.name == name }) {
			return false, "there is an account " + name + " that nobody asked for", said
		}
	}
	right = true
	for _, m := range w.people {
		is, was, due := after[m.name], before[m.name], m.due
		if !m.due.There {
			due = was
		}
		if is == due {
			continue
		}
		right = false
		if !between(is, was, due) {
			return false, fmt.Sprintf("%s was %+v, is to be %+v, and is %+v", m.name, was, due, is), said
		}
	}
	switch {
	case changes == held && !right && strings.Contains(said, "not all holders of ") && strings.Contains(said, "were shown"):
		// It says of whom it does not know.
	case changes == 0 && !right:
		return false, "there are no changes left, and the server is not as it should be", said
	case changes != 0 && right && !p.faulty && p.plain:
		return false, "the server is as it should be, and changes are left", said
	}
	return right, "", said
}

var areHeld = regexp.MustCompile(`; (\d+) (?:is|are) held$`)

// authority puts down in a repository what is to be trusted.
func authority(t *testing.T, p *peer, repo string) {
	t.Helper()
	for _, v := range p.server.env {
		if path, ok := strings.CutPrefix(v, "CA="); ok {
			pem, err := os.ReadFile(path)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(filepath.Join(repo, "ca.pem"), pem, 0o600))
		}
	}
}

// counted are how many changes a draft has, and how many of them are held.
func counted(out string) (changes, held int) {
	changes = -1
	for line := range strings.Lines(out) {
		line = strings.TrimSpace(line)
		count, _, _ := strings.Cut(line, ":")
		if n, ok := strings.CutSuffix(strings.TrimSuffix(count, "s"), " change"); ok && changes < 0 {
			if v, err := strconv.Atoi(n); err == nil {
				changes = v
			}
		}
		if line == "No changes." || strings.HasPrefix(line, "No changes") {
			changes = max(changes, 0)
		}
		if m := areHeld.FindStringSubmatch(line); m != nil {
			if n, err := strconv.Atoi(m[1]); err == nil {
				held = n
			}
		}
	}
	return changes, held
}

// between reports whether an account is, in each respect, as it was or as it is to be.
func between(is, was, due holding) bool {
	if !is.There {
		return !was.There
	}
	text := func(is, was, due string) bool { return is == was || is == due }
	yes := func(is, was, due bool) bool { return is == was || is == due }
	return (was.There || due.There) && text(is.Shown, was.Shown, due.Shown) && text(is.Email, was.Email, due.Email) &&
		yes(is.Open, was.Open, due.Open) && yes(is.Crew, was.Crew, due.Crew) && yes(is.Deck, was.Deck, due.Deck) &&
		yes(is.Lead, was.Lead, due.Lead)
}

func differing(a, b []string) string {
	var out []string
	for _, x := range a {
		if !slices.Contains(b, x) {
			out = append(out, "- "+x)
		}
	}
	for _, x := range b {
		if !slices.Contains(a, x) {
			out = append(out, "+ "+x)
		}
	}
	sort.Strings(out)
	return strings.Join(out, "\n")
}

// seeds are those of a test: "FROM TO" of the environment, or a few.
func seeds(t *testing.T, few int) (from, to int) {
	t.Helper()
	to = few
	if text := os.Getenv("PEERS"); text != "" {
		_, err := fmt.Sscanf(text, "%d %d", &from, &to)
		require.NoError(t, err, "PEERS is two numbers: from, and before which")
	}
	return from, to
}

// smallest looks, from a server with which something goes wrong, for the simplest with which it still does; fails says
// what goes wrong with one, "" for nothing, and what the program said.
func smallest[S any](at S, simpler func(S) []S, fails func(S) (wrong, said string)) (_ S, wrong, said string) {
	wrong, said = fails(at)
	for again := wrong != ""; again; {
		again = false
		for _, x := range simpler(at) {
			if w, s := fails(x); w != "" {
				at, wrong, said, again = x, w, s, true
				break
			}
		}
	}
	return at, wrong, said
}

// goesWrong lives with a server once and returns what went wrong, "" for nothing. Where plain is set, every change can
// be carried out there.
func goesWrong(t *testing.T, w *world, p *peer, plain bool) (wrong, said string) {
	t.Helper()
	right, wrong, said := lived(t, w, p)
	if wrong == "" && !right && plain {
		wrong = "changes are left, and nothing about this server makes that necessary"
	}
	return wrong, said
}

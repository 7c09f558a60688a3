package plan_test

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"testing"

	"github.com/gowebpki/jcs"
	"github.com/stretchr/testify/require"

	"pravet/internal/core/fact"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
)

func sample(changes int) *plan.Plan {
	p := &plan.Plan{
		Organization: "Märrowick \u2028 <Ferries>",
		AsOf:         "2026-11-24",
		Exports:      []plan.Export{},
		People:       map[string]string{"E1": "Søren \"S\" \U0001F6A2"},
		Changes:      []plan.Change{},
		Reasons:      []plan.Reason{},
		SetAside:     []plan.SetAside{},
		Notices:      []plan.Notice{},
	}
	odd := []string{
		"plain", "a\u2028b\u2029", "\U0001F6A2", "<&>\"\\/", "\x00\x1f\x7f\t\n\r", "not \xff UTF-8", "\ufffd",
		"Ω\u00e9",
	}
	for i := range changes {
		c := plan.Change{
			App:       "tickets",
			Verb:      model.Update,
			Account:   fmt.Sprint(odd[i/400%len(odd)], i),
			Person:    "E1",
			Attribute: "displayName",
			After:     plan.Text("x\u007f\b"),
			Effect:    model.Keeps,
			Reasons:   []int{i % 3},
		}
		if i%50 == 7 {
			c.Verb, c.Attribute, c.After = model.Create, "", plan.Fields(map[string]string{
				"\ufb33":     "x",
				"\U0001F6A2": "y",
				"a":          "z",
			})
		}
		c.ID = plan.ChangeID(&c)
		p.Changes = append(p.Changes, c)
	}
	for _, text := range odd[:min(3, changes)] {
		p.Reasons = append(p.Reasons, plan.Reason{
			File:  text,
			Line:  3,
			Says:  text,
			Facts: &fact.Fact{Kind: fact.KitRule, Kit: text, Names: []string{text}},
		})
	}
	p.Totals = plan.Count(p.Changes)
	return p
}

// sealed is the text of a plan's file.
func sealed(t testing.TB, p *plan.Plan) []byte {
	text, err := p.Seal()
	require.NoError(t, err)
	return text.Bytes()
}

// TestTheFileIsCanonicalUnderItsDigest checks a plan as someone without Pravet
// would: by RFC 8785 and SHA-256.
func TestTheFileIsCanonicalUnderItsDigest(t *testing.T) {
	for _, n := range []int{0, 1, 3500} {
		data := sealed(t, sample(n))
		canonical, err := jcs.Transform(data)
		require.NoError(t, err)
		require.Equal(t, string(canonical)+"\n", string(data))
		var members map[string]json.RawMessage
		require.NoError(t, json.Unmarshal(data, &members))
		var digest string
		require.NoError(t, json.Unmarshal(members["digest"], &digest))
		delete(members, "id")
		delete(members, "digest")
		rest, err := json.Marshal(members)
		require.NoError(t, err)
		canonical, err = jcs.Transform(rest)
		require.NoError(t, err)
		sum := sha256.Sum256(canonical)
		require.Equal(t, "sha256:"+hex.EncodeToString(sum[:]), digest)
		p, err := plan.Read(data)
		require.NoError(t, err)
		require.Equal(t, digest, p.Digest)
		require.Len(t, p.Changes, n)
	}
}

func TestNotAByteMayChange(t *testing.T) {
	data := sealed(t, sample(2))
	for i := range data {
		for _, flip := range []byte{1, 0x20} {
			changed := bytes.Clone(data)
			changed[i] ^= flip
			_, err := plan.Read(changed)
			require.Error(t, err, "byte %d of %d", i, len(data))
		}
	}
	_, err := plan.Read(append(bytes.Clone(data), ' '))
	require.ErrorIs(t, err, plan.ErrChanged)
	_, err = plan.Read(bytes.TrimSpace(data))
	require.ErrorIs(t, err, plan.ErrChanged)
}

// TestAChangeIsKnownByWhatItDoes: its id tells apart what is different, and
// nothing else.
func TestAChangeIsKnownByWhatItDoes(t *testing.T) {
	base := plan.Change{
		App:       "a",
		Verb:      model.Update,
		Account:   "x",
		Person:    "E1",
		Attribute: "title",
		Before:    plan.Text("1"),
		After:     plan.Text("2"),
	}
	same := base
	same.Effect, same.Reasons, same.Holds, same.Needs = model.Keeps, []int{7}, []plan.Hold{{}}, []string{"y"}
	require.Equal(t, plan.ChangeID(&base), plan.ChangeID(&same))
	seen := map[string]bool{plan.ChangeID(&base): true}
	for _, change := range []func(*plan.Change){
		func(c *plan.Change) { c.App = "ab" }, func(c *plan.Change) { c.Person = "E2" }, func(c *plan.Change) { c.Before = plan.Value{} },
		func(c *plan.Change) { c.After = plan.Text("3") }, func(c *plan.Change) { c.Attribute = "name" }, func(c *plan.Change) { c.Thing = &plan.Thing{Kind: model.Role, Name: "r"} },
		func(c *plan.Change) { c.App = "au" },
	} {
		c := base
		change(&c)
		id := plan.ChangeID(&c)
		require.False(t, seen[id], "%+v", c)
		require.Len(t, id, 12)
		seen[id] = true
	}
	create := plan.Change{
		App:     "a",
		Verb:    model.Create,
		Account: "x",
		Person:  "E1",
		After:   plan.Fields(map[string]string{"title": "1"}),
	}
	later := create
	later.After = plan.Fields(map[string]string{"title": "2"})
	require.Equal(t, plan.ChangeID(&create), plan.ChangeID(&later))
}

func FuzzRead(f *testing.F) {
	whole := sealed(f, sample(1))
	for _, s := range []string{
		string(whole), `{"format":"pravet.plan/1"}`, `{"format":"pravet.plan/2"}`, `{}`, `[`,
		string(whole[:len(whole)/2]),
	} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		p, err := plan.Read(data)
		if err != nil {
			return
		}
		again, err := p.Seal()
		if err != nil || !bytes.Equal(again.Bytes(), data) {
			t.Fatalf("a plan that was read is not what was read: %v", err)
		}
	})
}

func BenchmarkSeal(b *testing.B) {
	p := sample(10_000)
	for b.Loop() {
		_, err := p.Seal()
		require.NoError(b, err)
	}
}

package delivery_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pravet/internal/core/letter"
	"pravet/internal/delivery"
	"pravet/internal/desired"
	"pravet/internal/ledger"
	"pravet/internal/secret"
)

// errKilled stands for a process that ends in the middle.
var errKilled = errors.New("killed")

// A moody way does what comes into its mind, and remembers what arrived.
type moody struct {
	rng     *rand.Rand
	arrived map[string]int // address and key → how often
}

func (*moody) Name() string { return "moody" }

func (m *moody) Ready(l *letter.Letter, _ time.Time) (func(context.Context) error, func(), error) {
	return func(context.Context) error { return m.send(l) }, func() {}, nil
}

func (m *moody) send(l *letter.Letter) error {
	mood := m.rng.IntN(6)
	if mood != 0 && mood != 1 && mood != 2 {
		for _, key := range l.Keys {
			m.arrived[l.Address+" "+key]++
		}
	}
	switch mood {
	case 0, 1:
		return &delivery.Refused{Err: errors.New("busy")}
	case 2, 3: // killed before or after it arrived
		panic(errKilled)
	case 4:
		return errors.New("no answer")
	}
	return nil
}

// A box is a folder of which somebody may have collected all letters, where a process may be killed at each step.
type box struct {
	rng     *rand.Rand
	beside  map[string]string // by temporary name
	there   map[string]bool
	arrived map[string]int // name of a file → how often it came into its place
	n       int
}

func (b *box) maybeKilled() {
	if b.rng.IntN(6) == 0 {
		panic(errKilled)
	}
}

func (b *box) Stage(name string, write func(io.Writer) error) (delivery.Staged, error) {
	if b.rng.IntN(6) == 0 {
		return nil, errors.New("the disk is full")
	}
	b.maybeKilled()
	b.n++
	s := &staged{b, fmt.Sprint(b.n), name}
	b.beside[s.temp] = name
	b.maybeKilled()
	return s, write(io.Discard)
}

func (b *box) Unplaced() (map[string]string, error) { return maps.Clone(b.beside), nil }
func (b *box) Has(name string) (bool, error)        { return b.there[name], nil }
func (b *box) Remove(name string) error {
	delete(b.beside, name)
	b.maybeKilled()
	return nil
}

type staged struct {
	*box
	temp, name string
}

func (s *staged) Commit() error {
	s.maybeKilled()
	delete(s.beside, s.temp)
	s.there[s.name] = true
	s.arrived[s.name]++
	if s.rng.IntN(2) == 0 {
		clear(s.there) // somebody collects them
	}
	s.maybeKilled()
	return nil
}

func (s *staged) Drop() { delete(s.beside, s.temp) }

// TestALetterInAFolderIsLookedFor: wherever the process is killed, each letter comes into its place once, and none is
// forgotten or unsure: a folder tells what became of it.
func TestALetterInAFolderIsLookedFor(t *testing.T) {
	for seed := range uint64(60) {
		rng := rand.New(rand.NewPCG(seed, 2))
		l, err := ledger.Open(t.TempDir(), ledger.Options{By: "Farah", Now: time.Now})
		require.NoError(t, err)
		b := &box{rng: rng, beside: map[string]string{}, there: map[string]bool{}, arrived: map[string]int{}}
		ways := []delivery.Way{&delivery.Folder{Path: "outbox", From: "a@x.example", Domain: "x.example", Box: b}}
		repo := &desired.Repo{Organization: "Marrowick Ferries", Letters: &desired.Letters{Text: letter.Default()}}
		readers := []letter.Reader{{Name: "Ada", Address: "ada@x.example", All: true}}
		var items []letter.Item
		round := func() (left int) {
			defer func() {
				if r := recover(); r != nil && r != errKilled {
					panic(r)
				}
			}()
			left = 1
			told, err := delivery.Before(l, ways)
			require.NoError(t, err)
			require.Empty(t, told.Unsure)
			require.NoError(t, told.Settle(l, ways))
			parcels := told.Pack(repo, ways, readers, items, 20781)
			sent, _, err := delivery.Send(context.Background(), l, parcels, at, (&secret.Keeper{}).Clean)
			require.NoError(t, err)
			left = len(parcels)
			for _, s := range sent {
				if s.Err == nil {
					left--
				}
			}
			return left
		}
		for i := range 10 {
			items = append(items, letter.Item{Key: fmt.Sprint("due/", i), On: "2026-11-24", Says: "something"})
			for tries := 0; round() > 0; tries++ {
				require.Less(t, tries, 200, "it goes in the end")
			}
			require.Len(t, b.arrived, i+1)
		}
		for name, n := range b.arrived {
			require.Equal(t, 1, n, name)
		}
		require.Empty(t, b.beside)

		// Called otherwise, the folder has nothing of all that to be told again; a second one has.
		other := []delivery.Way{&delivery.Folder{Path: "post", Box: b}}
		told, err := delivery.Before(l, other)
		require.NoError(t, err)
		require.Empty(t, told.Pack(repo, other, readers, items, 20781))
		both := append(other, ways...)
		told, err = delivery.Before(l, both)
		require.NoError(t, err)
		require.Len(t, told.Pack(repo, both, readers, items, 20781), 1)
		require.NoError(t, l.Close())
	}
}

// TestNobodyIsToldTwice: whatever ways do, and wherever the process is killed, nothing
// arrives twice; and what was never on the way to arrive goes in the end, but for what
// nobody knows about, which is named.
func TestNobodyIsToldTwice(t *testing.T) {
	for seed := range uint64(60) {
		rng := rand.New(rand.NewPCG(seed, 1))
		l, err := ledger.Open(t.TempDir(), ledger.Options{By: "Farah", Now: time.Now})
		require.NoError(t, err)
		way := &moody{rng: rng, arrived: map[string]int{}}
		repo := &desired.Repo{Organization: "Marrowick Ferries", Letters: &desired.Letters{Text: letter.Default()}}
		readers := []letter.Reader{
			{
				Name:    "Ada",
				Address: "ada@x.example",
				All:     true,
			}, {Name: "Bo", Address: "bo@x.example", Apps: map[string]bool{"till": true}},
		}
		var items []letter.Item
		var told *delivery.Told
		for round := range 30 {
			if round < 10 {
				items = append(items, letter.Item{
					Key: fmt.Sprint(
						"due/",
						round,
					), On: "2026-11-24", App: []string{"till", "depot"}[rng.IntN(2)], Says: "something",
				})
			}
			told, err = delivery.Before(l, nil)
			require.NoError(t, err)
			parcels := told.Pack(repo, []delivery.Way{way}, readers, items, 20781)
			func() {
				defer func() {
					if r := recover(); r != nil && r != errKilled {
						panic(r)
					}
				}()
				_, _, err := delivery.Send(context.Background(), l, parcels, time.Now(), (&secret.Keeper{}).Clean)
				require.NoError(t, err)
			}()
		}
		told, err = delivery.Before(l, nil)
		require.NoError(t, err)
		for what, n := range way.arrived {
			require.LessOrEqual(t, n, 1, "%s arrived %d times", what, n)
		}
		left := told.Pack(repo, []delivery.Way{way}, readers, items, 20781)
		unsure := 0
		for range told.Unsure {
			unsure++
		}
		for i := range items {
			for r := range readers {
				if !readers[r].All && items[i].App != "till" {
					require.Zero(t, way.arrived[readers[r].Address+" "+items[i].Key])
					continue
				}
				if way.arrived[readers[r].Address+" "+items[i].Key] == 0 {
					require.True(t, unsure > 0 || len(left) > 0, "%s was forgotten", items[i].Key)
				}
			}
		}
		require.NoError(t, l.Close())
	}
}

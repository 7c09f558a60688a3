package delivery_test

import (
	"context"
	"errors"
	"fmt"
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

func (m *moody) Send(_ context.Context, l *letter.Letter, _ time.Time) error {
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
			told, err = delivery.Before(l)
			require.NoError(t, err)
			parcels := told.Pack(repo, []delivery.Way{way}, readers, items, 20781)
			func() {
				defer func() {
					if r := recover(); r != nil && r != errKilled {
						panic(r)
					}
				}()
				_, err := delivery.Send(context.Background(), l, parcels, time.Now(), (&secret.Keeper{}).Clean)
				require.NoError(t, err)
			}()
		}
		told, err = delivery.Before(l)
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

package prepare_test

import (
	"bytes"
	"context"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/core/access"
	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/desired"
	"pravet/internal/prepare"
	"pravet/internal/show"
)

// TestQuestions asks what each small world in testdata/questions is asked, and
// compares the answers with those written there. Lines of the file "answers"
// that begin with "$ " are questions: "why PERSON [THING]", "holders THING
// [--effective]", "seats", "ahead DURATION", "list SUBJECT COLUMN ...", "compare"
// (with the files in the folder "before"), and "rules". The day is 2026-11-24.
//
// UPDATE=1 go test ./internal/prepare writes the answers anew; read them.
func TestQuestions(t *testing.T) {
	eachWorld(
		t,
		"questions",
		"answers",
		func(t *testing.T, w *smallWorld, want string) string { return w.answers(t, want) },
	)
}

// answers returns the questions of a text, each with its answer.
func (w *smallWorld) answers(t *testing.T, text string) string {
	var out bytes.Buffer
	for _, line := range strings.Split(text, "\n") {
		if question, ok := strings.CutPrefix(line, "$ "); ok {
			out.WriteString(line + "\n")
			w.ask(t, &out, strings.Fields(question))
		}
	}
	return out.String()
}

func (w *smallWorld) ask(t *testing.T, out *bytes.Buffer, words []string) {
	p := show.NewPrinter(out, []string{"NO_COLOR=1"})
	ctx := context.Background()
	s := prepare.Rules(ctx, w.tree(t, ""))
	v, missing, err := s.Look(ctx, nil, w.today)
	if err != nil {
		for _, x := range s.Problems() {
			t.Log(x)
		}
	}
	require.NoError(t, err)
	thing := func(address string) model.AppThing {
		a, err := model.ParseAddress(address)
		require.NoError(t, err)
		kind, _ := model.ParseKind(a.Kind)
		app := s.Repo.App(a.App)
		require.GreaterOrEqual(t, app, 0, address)
		return model.AppThing{App: app, Thing: s.Repo.Apps[app].Thing(kind, a.Name)}
	}
	switch words[0] {
	case "why":
		one, found, person, _, err := prepare.Find(ctx, desired.Rules(ctx, w.tree(t, "")), words[1], w.today)
		require.NoError(t, err)
		require.NotNil(t, one)
		require.GreaterOrEqual(t, person, 0, words[1])
		var only *model.AppThing
		if len(words) > 2 {
			x := thing(words[2])
			only = &x
		}
		answer := found.Why(person, only)
		// Reading no more than may be the one answers as reading everything does.
		require.Equal(t, v.Why(v.People.Named(words[1]), only), answer)
		p.Answer(answer)
	case "holders":
		p.Print(show.HolderTable(v.Holders(thing(words[1]), len(words) > 2)))
	case "seats":
		p.Print(show.SeatsTable(v, v.Seats()))
		p.Line(show.SeatsLine(v, v.Seats()))
	case "ahead":
		d, err := day.ParseDuration(words[1])
		require.NoError(t, err)
		months := v.Ahead(w.today.Add(d))
		p.Print(show.AheadTable(v, months).In("table"))
		for _, line := range show.Short(v, months) {
			p.Line(line)
		}
	case "list":
		rows := v.Rows(words[1])
		p.Print(show.RowTable(rows, rows.Select(nil, w.today), words[2:]))
	case "compare":
		_, before, err := prepare.At(ctx, w.tree(t, "before"), "", w.today)
		require.NoError(t, err)
		_, after, err := prepare.At(ctx, w.tree(t, ""), "", w.today)
		require.NoError(t, err)
		list := access.Compare(before, after)
		p.Differences(list, slices.Concat(after.Implied(), access.Gained(list)))
	case "rules":
		p.Rules(s.Repo.Matches(w.today, true))
	default:
		t.Fatalf("nobody can answer %q", words)
	}
	for _, m := range missing {
		p.Line(m.Error())
	}
	require.NoError(t, p.Err())
}

package schema_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"
	yaml "go.yaml.in/yaml/v4"

	"pravet/docs/schema"
	"pravet/examples/marrowick"
	"pravet/examples/start"
	"pravet/internal/core/guard"
	"pravet/internal/desired"
	"pravet/internal/form"
)

func compile(t *testing.T, name string) *jsonschema.Schema {
	text, err := schema.Get(name)
	require.NoError(t, err)
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	c.DefaultDraft(jsonschema.Draft2020)
	c.AssertFormat()
	url := "https://pravet.example/schema/" + name + ".json"
	require.NoError(t, c.AddResource(url, doc))
	s, err := c.Compile(url)
	require.NoError(t, err)
	return s
}

// fromYAML reads a file as an editor does that checks YAML by JSON Schema:
// dates are texts.
func fromYAML(t *testing.T, data []byte) any {
	var n yaml.Node
	require.NoError(t, yaml.Unmarshal(data, &n))
	var walk func(n *yaml.Node)
	walk = func(n *yaml.Node) {
		if n.Tag == "!!timestamp" {
			n.Tag = "!!str"
		}
		for i, c := range n.Content {
			if n.Kind == yaml.MappingNode && i%2 == 0 {
				c.Tag = "!!str" // a key is a text, also where it reads true
			}
			walk(c)
		}
	}
	walk(&n)
	var v any
	require.NoError(t, n.Decode(&v))
	text, err := json.Marshal(v)
	require.NoError(t, err)
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	require.NoError(t, err)
	return doc
}

// kinds says which schema a file of a repository has.
func kind(name string) string {
	switch folder, _, _ := strings.Cut(name, "/"); folder {
	case "apps":
		return "app"
	case "kits", "people", "paths":
		return folder
	}
	return strings.TrimSuffix(name, ".yaml")
}

func TestWhatShipsFitsTheSchemas(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, marrowick.Write(dir, false))
	n := 0
	for _, root := range []string{dir, "../../examples/start", "../../examples/quarter"} {
		err := filepath.WalkDir(root, func(path string, d os.DirEntry, err error) error {
			if err != nil || !strings.HasSuffix(path, ".yaml") {
				return err
			}
			n++
			data, err := os.ReadFile(path)
			require.NoError(t, err)
			name, err := filepath.Rel(root, path)
			require.NoError(t, err)
			name = strings.TrimPrefix(filepath.ToSlash(name), "empty/") // a start of its own
			require.NoError(t, compile(t, kind(name)).Validate(fromYAML(t, data)), path)
			return nil
		})
		require.NoError(t, err)
	}
	require.Equal(t, 19, n)
	require.NotNil(t, start.Files)
}

func TestAPlanFitsItsSchema(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, marrowick.Write(dir, false))
	draft := func() []byte {
		out, err := exec.Command(
			"go", "run", "pravet/cmd/pravet", "draft", "--repo", dir, "--on", "2026-11-24", "--out", "-",
		).
			Output()
		require.NoError(t, err)
		return out
	}
	text := draft()
	var p struct {
		ID      string
		Changes []struct{ ID string }
	}
	require.NoError(t, json.Unmarshal(text, &p))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "plan.json"), text, 0o644))
	require.NoError(
		t,
		exec.Command(
			"go", "run", "pravet/cmd/pravet", "reject", "--repo", dir, filepath.Join(dir, "plan.json"),
			p.Changes[0].ID, "--because", "x",
		).
			Run(),
	)
	for _, text := range [][]byte{text, draft()} {
		doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
		require.NoError(t, err)
		require.NoError(t, compile(t, "plan").Validate(doc))
	}
}

func TestTheSchemasRefuseWhatCheckRefuses(t *testing.T) {
	for _, c := range []struct{ kind, text string }{
		{"pravet", "organisation: X"},
		{"pravet", "organization: X\nguards: {removals: many}"},
		{"pravet", "organization: X\nseparation: [{name: a, apart: [x]}]"},
		{"app", "app: tickets"},
		{"app", "app: T\nexport: {format: csv, path: x}\nconnect: {by: files}\nmatch: userName"},
		{"app", "app: t\nexport: {format: xml, path: x}\nconnect: {by: files}\nmatch: userName"},
		{"app", "app: t\nexport: {format: csv, path: x}\nconnect: {by: pigeon}\nmatch: userName"},
		{"pravet", "organization: X\nletters: {from: a@x, readers: [{who: owners}], by: [{smtp: mail.x:25, password: herring}]}"},
		{"pravet", "organization: X\nletters: {from: a@x, readers: [{who: owners}], by: []}"},
		{"app", "app: t\nexport: {format: csv, path: x}\nconnect: {by: files}\nmatch: userName\ninvitation: {again: 2}"},
		{"kits", "kits: {a: {for: x pr}}"},
		{"kits", "kits: {a: {with: b}}"},
		{"kits", "kits: {a: {gives: {t: {role: [x]}}}}"},
		{"kits", "kits: {a: {everyone: true, for: x pr, gives: {}}}"},
		{"kits", "kits: {a: {gives: {}, holders: [{person: E1}]}}"},
		{"standing", "lifted: [{guard: removals, because: x}]"},
		{"standing", "rejections: [{change: abc}]"},
		{"standing", "kept: [{because: x}]"},
		{"standing", "kept: [{person: E1, for: x pr, because: x}]"},
		{"paths", "paths: {a: {when: ended}}"},
		{"paths", "paths: {a: {when: sometime, steps: [{do: suspend}]}}"},
		{"paths", "paths: {a: {when: ended, steps: [{do: vanish}]}}"},
		{"paths", "paths: {a: {when: {idle: a month}, steps: [{do: suspend}]}}"},
		{"people", "people: [{id: E1}]"},
		{"people", "people: [{id: E1, userName: x, shoe: 41}]"},
		{"people", "people: [{id: E1, userName: x, starts: soon}]"},
	} {
		require.Error(t, compile(t, c.kind).Validate(fromYAML(t, []byte(c.text))), "%s", c.text)
	}
}

// TestSchemasAndTablesFollowFromTheForms: the schemas of the files of a repository, docs/keys.md and the table of
// docs/guards.md are what the program declares. UPDATE=1 writes them anew.
func TestSchemasAndTablesFollowFromTheForms(t *testing.T) {
	var guards strings.Builder
	guards.WriteString("| guard | holds | limit, unless set | may be lifted for |\n| --- | --- | --- | --- |\n")
	for _, g := range guard.All() {
		fmt.Fprintf(&guards, "| `%s` | %s | %s | %s |\n", g.Name, g.Holds, g.Limit, g.Lift)
	}
	for _, f := range desired.Forms() {
		want, err := f.Schema()
		require.NoError(t, err)
		same(t, f.Name+".json", regexp.MustCompile(`(?s)^.*$`), string(want))
	}
	same(t, "../keys.md", regexp.MustCompile(`(?s)\n## .*$`), "\n"+form.Tables(desired.Forms()))
	same(t, "../guards.md", regexp.MustCompile(`(?m)^\| guard \| holds .*\n(\|.*\n)+`), guards.String())
}

// same compares a part of a file with what it is to be.
func same(t *testing.T, file string, part *regexp.Regexp, want string) {
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	is := part.FindString(string(data))
	require.NotEmpty(t, is, file)
	if os.Getenv("UPDATE") != "" {
		require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(data), is, want, 1)), 0o644))
		return
	}
	require.Equal(t, want, is, "%s is not what the program declares; UPDATE=1 go test ./docs/schema writes it anew", file)
}

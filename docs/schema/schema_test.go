package schema_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
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
	"pravet/internal/connect"
	"pravet/internal/connect/ways"
	"pravet/internal/core/guard"
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
			require.NoError(t, compile(t, kind(filepath.ToSlash(name))).Validate(fromYAML(t, data)), path)
			return nil
		})
		require.NoError(t, err)
	}
	require.Equal(t, 18, n)
	require.NotNil(t, start.Files)
}

func TestAPlanFitsItsSchema(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, marrowick.Write(dir, false))
	draft := func() []byte {
		out, err := exec.Command("go", "run", "pravet/cmd/pravet", "draft", "--repo", dir, "--on", "2026-11-24", "--out", "-").
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
		exec.Command("go", "run", "pravet/cmd/pravet", "reject", "--repo", dir, filepath.Join(dir, "plan.json"), p.Changes[0].ID, "--because", "x").
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

// TestGuardsAreThoseOfTheRegistry: the table of docs/guards.md and the list of standing.json follow from the
// registry of guards. UPDATE=1 writes them anew.
// What connect takes is what the ways say of themselves; kept is what the schema spells out.
func TestConnectTakesWhatTheWaysSay(t *testing.T) {
	text, err := schema.Get("app")
	require.NoError(t, err)
	type key = map[string]any
	var app struct {
		Properties struct {
			Connect struct{ Properties map[string]key }
		}
	}
	require.NoError(t, json.Unmarshal(text, &app))
	properties := app.Properties.Connect.Properties
	names := map[string]bool{
		"by": true, "firstPassword": true, "rate": true, "parallel": true, "tries": true, "timeout": true, "settle": true,
		"failures": true, "batch": true,
	}
	var by []any
	for _, w := range ways.All {
		by = append(by, w.Name)
		for _, k := range w.Keys {
			names[k.Name] = true
			got := maps.Clone(properties[k.Name])
			require.NotNil(t, got, "%s of %s has no schema", k.Name, w.Name)
			require.Equal(t, k.Doc, got["description"], "%s of %s", k.Name, w.Name)
			if delete(got, "description"); k.Schema == connect.KeptSchema {
				continue
			}
			want := key{"type": "string"}
			if k.Schema != "" {
				want = nil
				require.NoError(t, json.Unmarshal([]byte(k.Schema), &want))
			}
			require.Equal(t, want, got, "%s of %s", k.Name, w.Name)
		}
	}
	require.Equal(t, by, properties["by"]["enum"])
	for name := range properties {
		require.True(t, names[name], "no way takes %s", name)
	}
}

func TestGuardsAreThoseOfTheRegistry(t *testing.T) {
	var table strings.Builder
	table.WriteString("| guard | holds | limit, unless set | may be lifted for |\n| --- | --- | --- | --- |\n")
	for _, g := range guard.All() {
		fmt.Fprintf(&table, "| `%s` | %s | %s | %s |\n", g.Name, g.Holds, g.Limit, g.Lift)
	}
	var list strings.Builder
	list.WriteString("\"enum\": [\n")
	for i, name := range guard.Names(guard.ForPlan) {
		if i > 0 {
			list.WriteString(",\n")
		}
		fmt.Fprintf(&list, "              %q", name)
	}
	list.WriteString("\n            ]")
	for file, want := range map[string]struct {
		part *regexp.Regexp
		text string
	}{
		"../guards.md":  {regexp.MustCompile(`(?m)^\| guard \| holds .*\n(\|.*\n)+`), table.String()},
		"standing.json": {regexp.MustCompile(`"enum": \[[^\]]*"removals"[^\]]*\]`), list.String()},
	} {
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		is := want.part.FindString(string(data))
		require.NotEmpty(t, is, file)
		if os.Getenv("UPDATE") != "" {
			out := strings.Replace(string(data), is, want.text, 1)
			require.NoError(t, os.WriteFile(file, []byte(out), 0o644))
			continue
		}
		require.Equal(t, want.text, is, file)
	}
}

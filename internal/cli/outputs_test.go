package cli

import (
	"bytes"
	"encoding/json"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/spf13/cobra"
	"github.com/stretchr/testify/require"

	"pravet/docs/schema"
	"pravet/internal/prepared"
)

// outputs are calls of commands that write JSON, by the name of its schema: what they write stands for all that those may.
var outputs = map[string][][]string{
	"adopt":        {{"adopt", "--app", "slips", "exports/slips.csv"}},
	"ahead":        {{"ahead"}},
	"amend":        {{"amend", "set", "title=Desk lead", "--for", "E0042"}, {"amend", "end", "2026-11-20", "--for", "E0042"}},
	"amend-like":   {{"amend", "like", "E0031", "--for", "E0118"}},
	"check":        {{"check"}, {"check", "--rules"}},
	"compare":      {{"compare"}, {"compare", "HEAD~1"}, {"compare", "HEAD~2", "HEAD"}},
	"holders":      {{"holders", "tickets/role/seller"}, {"holders", "tickets/role/administrator", "--effective"}},
	"intake":       {{"intake", "intake/joiners.csv", "--into", "people/ashore.csv"}},
	"letters":      {{"letters"}},
	"list":         {{"list", "people"}, {"list", "kits"}, {"list", "things"}, {"list", "strays"}, {"list", "leaving"}, {"list", "accounts"}},
	"list-waiting": {{"list", "waiting"}},
	"log":          {{"log"}},
	"propose":      {{"propose"}},
	"rehearse":     {{"rehearse", "2w57bede"}},
	"rehearse-for": {{"rehearse", "--for", "P60D", "--all"}},
	"report":       {{"report"}},
	"seats":        {{"seats"}},
	"show":         {{"show", "2w57bede"}, {"show", "2w57bede", "--group-by", "person"}, {"show", "2w57bede", "--app", "rosters"}},
	"why":          {{"why", "E0042"}, {"why", "E0031"}, {"why", "oskar.nyman", "tickets/role/refund-approver"}},
}

// TestOutputsFitTheirSchemas: what commands write as JSON has just the members that the schema of the command names, and all that it
// requires. UPDATE=1 writes the schemas anew; read the difference, as programs rely on them.
func TestOutputsFitTheirSchemas(t *testing.T) {
	var covered []string
	for name, calls := range outputs {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			var all []any
			for _, from := range []*prepared.Folder{drafted, applied} {
				d := in(t, from)
				if name == "letters" {
					tells(t, d.dir)
				}
				for _, call := range calls {
					d.run(append(slices.Clone(call), "--format", "json")...)
					if d.out.Len() == 0 && from == applied {
						continue // what it asks about is done
					}
					v, err := jsonschema.UnmarshalJSON(bytes.NewReader(d.out.Bytes()))
					require.NoError(t, err, "%v: %s%s", call, d.out.String(), d.err.String())
					all = append(all, v)
				}
			}
			require.NotEmpty(t, all)
			file := filepath.Join("..", "..", "docs", "schema", "output", name+".json")
			if os.Getenv("UPDATE") != "" {
				s := shapeOf(all)
				s["$schema"], s["title"] = "https://json-schema.org/draft/2020-12/schema", "What pravet "+strings.Join(commandsOf(calls), ", or ")+" --format json writes"
				data, err := json.MarshalIndent(s, "", " ")
				require.NoError(t, err)
				require.NoError(t, os.WriteFile(file, append(data, '\n'), 0o644))
			}
			data, err := os.ReadFile(file)
			require.NoError(t, err)
			doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(data))
			require.NoError(t, err)
			c := jsonschema.NewCompiler()
			require.NoError(t, c.AddResource(name+".json", doc))
			compiled, err := c.Compile(name + ".json")
			require.NoError(t, err)
			for _, v := range all {
				require.NoError(t, compiled.Validate(v))
			}
			shipped, err := schema.Get("output/" + name)
			if os.Getenv("UPDATE") == "" {
				require.NoError(t, err)
				require.Equal(t, string(data), string(shipped))
			}
		})
		for _, call := range calls {
			covered = append(covered, strings.Join(call[:min(2, len(call))], " "), call[0])
		}
	}
	// Every command that can write JSON has one.
	c := &program{Env: atWork(t).env()}
	var walk func(cmd *cobra.Command)
	walk = func(cmd *cobra.Command) {
		for _, sub := range cmd.Commands() {
			walk(sub)
		}
		f := cmd.Flags().Lookup("format")
		if f == nil || !strings.Contains(f.Usage, "json") || cmd.Name() == "fetch" || strings.HasPrefix(cmd.CommandPath(), "pravet amend ") {
			return // fetch needs an application that is reached; all below amend write the same
		}
		require.Contains(t, covered, strings.TrimPrefix(cmd.CommandPath(), "pravet "), "add it to outputs")
	}
	walk(c.root())
}

// tells has the files of a repository say who gets letters.
func tells(t *testing.T, dir string) {
	t.Helper()
	f, err := os.OpenFile(filepath.Join(dir, "pravet.yaml"), os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteString("\nletters: {from: access@marrowick.example, readers: [{who: administrators, to: [E0061]}], by: [{folder: outbox}]}\n")
	require.NoError(t, err)
	require.NoError(t, f.Close())
}

// commandsOf are the commands of calls, each once.
func commandsOf(calls [][]string) (out []string) {
	for _, call := range calls {
		if !slices.Contains(out, call[0]) {
			out = append(out, call[0])
		}
	}
	return out
}

// dynamic are members whose own members are names of the organization, and not of the format.
var dynamic = []string{"people", "decisions", "states", "accounts", "before", "after", "leftAlone", "values", "counts", "attributes", "value", "set"}

// shapeOf is a schema that values fit, and nothing with other members.
func shapeOf(all []any) map[string]any {
	types := map[string]bool{}
	var items, objects []any
	for _, v := range all {
		switch x := v.(type) {
		case nil:
			types["null"] = true
		case bool:
			types["boolean"] = true
		case string:
			types["string"] = true
		case json.Number:
			types["number"] = true
		case []any:
			types["array"] = true
			items = append(items, x...)
		case map[string]any:
			types["object"] = true
			objects = append(objects, x)
		}
	}
	out := map[string]any{}
	if list := slices.Sorted(maps.Keys(types)); len(list) == 1 {
		out["type"] = list[0]
	} else {
		out["type"] = list
	}
	if len(items) > 0 {
		out["items"] = shapeOf(items)
	}
	if len(objects) == 0 {
		return out
	}
	members, present := map[string][]any{}, map[string]int{}
	for _, o := range objects {
		for key, v := range o.(map[string]any) {
			members[key] = append(members[key], v)
			present[key]++
		}
	}
	properties, required := map[string]any{}, []string{}
	for key, list := range members {
		s := shapeOf(list)
		if s["type"] == "object" && slices.Contains(dynamic, key) {
			var inside []any
			for _, v := range list {
				inside = append(inside, slices.Collect(maps.Values(v.(map[string]any)))...)
			}
			s = map[string]any{"type": "object"}
			if len(inside) > 0 {
				s["additionalProperties"] = shapeOf(inside)
			}
		}
		properties[key] = s
		if present[key] == len(objects) {
			required = append(required, key)
		}
	}
	slices.Sort(required)
	out["properties"], out["required"], out["additionalProperties"] = properties, required, false
	return out
}

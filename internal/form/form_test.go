package form_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/form"
)

// boat is a small kind of file with one of everything that depends on something else.
func boat() form.File {
	crew := &form.Object{
		Name: "a hand", Doc: "Somebody aboard",
		Keys: []form.Key{
			{Name: "name", Is: form.Text(""), Need: true, Doc: "What they are called"},
			{Name: "rank", Is: form.AtLeast(1)},
		},
	}
	return form.File{Name: "boat", Title: "boats/*.yaml: a boat", Is: &form.Object{
		Name: "the boat", Doc: "A boat",
		Keys: []form.Key{
			{Name: "sails", Is: form.Simple(form.Bool), Doc: "It has | them"},
			{Name: "engine", Is: form.OneOf("diesel", "electric")},
			{Name: "battery", Is: form.AtLeast(0), With: []form.Cond{{Key: "engine", Value: "electric"}}},
			{Name: "reefs", Is: form.Names("sails"), With: form.With("sails")},
			{Name: "crew", Is: form.ListOf(1, form.In(crew))},
			{Name: "master", Is: form.Any(form.Text("a name"), form.In(crew))},
			{Name: "oars", Is: form.Simple(form.Bool)},
		},
		Some:  []form.Choice{{Keys: []string{"sails", "engine"}, Says: "it does not move"}},
		Apart: [][2]string{{"oars", "engine"}},
	}}
}

func TestAnObjectIsDefinedOnceInASchema(t *testing.T) {
	text, err := boat().Schema()
	require.NoError(t, err)
	var got map[string]any
	require.NoError(t, json.Unmarshal(text, &got))
	require.Equal(t, "https://pravet.example/schema/boat.json", got["$id"])
	require.Len(t, got["$defs"], 1, "a hand stands in a list and by itself")
	props := got["properties"].(map[string]any)
	require.Equal(t, map[string]any{
		"type": "array", "minItems": 1.0, "items": map[string]any{"$ref": "#/$defs/a-hand"},
	}, props["crew"])
	require.Equal(t, map[string]any{"anyOf": []any{
		map[string]any{"type": []any{"string", "number", "boolean", "null"}, "description": "a name"},
		map[string]any{"$ref": "#/$defs/a-hand"},
	}}, props["master"])
	hand := got["$defs"].(map[string]any)["a-hand"].(map[string]any)
	require.Equal(t, []any{"name"}, hand["required"])
	require.Equal(t, false, hand["additionalProperties"])
	require.Equal(t, map[string]any{
		"battery": map[string]any{
			"required": []any{"engine"}, "properties": map[string]any{"engine": map[string]any{"enum": []any{"electric"}}},
		},
		"reefs": map[string]any{"required": []any{"sails"}},
	}, got["dependentSchemas"])
	require.Equal(t, []any{
		map[string]any{"anyOf": []any{
			map[string]any{"required": []any{"sails"}}, map[string]any{"required": []any{"engine"}},
		}},
		map[string]any{"not": map[string]any{
			"required": []any{"oars", "engine"}, "properties": map[string]any{"oars": map[string]any{"const": true}},
		}},
	}, got["allOf"], "one that says no is not there")
}

func TestTablesSayWhatStandsBesideWhat(t *testing.T) {
	require.Equal(t, "## boats/*.yaml\n\nA boat.\n\n"+
		"| key | value | |\n| --- | --- | --- |\n"+
		"| `sails`, or `engine` | `true` or `false` | It has \\| them |\n"+
		"| `engine`, or `sails` | `diesel` or `electric` |  |\n"+
		"| `battery`, with `engine: electric` | a whole number, at least 0 |  |\n"+
		"| `reefs`, with `sails` | a list of sails |  |\n"+
		"| `crew` | a list: each [a hand](#a-hand) |  |\n"+
		"| `master` | a name; or [a hand](#a-hand) |  |\n"+
		"| `oars` | `true` or `false` |  |\n"+
		"\n### A hand\n\nSomebody aboard.\n\n"+
		"| key | value | |\n| --- | --- | --- |\n"+
		"| `name`, required | a text | What they are called |\n"+
		"| `rank` | a whole number, at least 1 |  |\n", form.Tables([]form.File{boat()}))
}

// TestAPartNeedsNothing, and is shown as what it is a part of.
func TestAPartNeedsNothing(t *testing.T) {
	whole := boat().Is
	part := whole.Part("the boat in one harbour", "As far as it differs")
	require.Empty(t, part.Needed())
	require.Nil(t, part.Key("battery").With)
	require.NotNil(t, whole.Key("battery").With, "the whole is as it was")
	require.Equal(t, "[the boat](#the-boat), as far as it differs", form.In(part).Say())
}

// TestKeysOfTheFilesOwn are those that fit, and none that never is one.
func TestKeysOfTheFilesOwn(t *testing.T) {
	o := (&form.Object{Name: "it", Fits: `^x\.`}).Open("a key", form.Text("")).Never("x.no")
	require.True(t, o.Takes("x.yes"))
	require.False(t, o.Takes("y"))
	require.False(t, o.Takes("x.no"))
	require.False(t, (&form.Object{}).Takes("x.yes"))
	more := o.And(form.Key{Name: "z", Is: form.Simple(form.Day)})
	require.Equal(t, []string{"z"}, more.Names())
	require.Empty(t, o.Names())
	require.True(t, form.Any(form.Text(""), form.ListOf(0, form.Simple(form.Day))).Has(form.List))
	require.False(t, form.Text("").Has(form.List))
}

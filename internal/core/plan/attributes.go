package plan

// Attributes are what a filter over changes may name, besides the attributes of people.
var Attributes = []string{
	"id", "app", "verb", "effect", "account", "person", "name", "kind", "thing", "attribute", "before", "after",
	"forGood", "held", "guard", "kit", "cause", "decision", "sensitive", "first",
}

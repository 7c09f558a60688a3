package words

import "fmt"

// Deciders are whom a rule leaves a decision to: the owner of an application, the holders of a kit, or those whom a filter
// matches; anybody where it names nobody.
func Deciders(owner bool, kit, filter, app string) string {
	switch {
	case owner:
		return "the owner of " + app
	case kit != "":
		return "the holders of " + kit
	case filter != "":
		return "people with " + filter
	}
	return "anybody"
}

// AsBefore is said of those who decide by rules that have changed since.
func AsBefore(who string) string { return who + " (by the rules as they were)" }

// SoMany is how many of them it takes.
func SoMany(left int, owner bool, kit, filter, app string) string {
	who := Deciders(owner, kit, filter, app)
	if owner || left == 1 && kit == "" && filter == "" {
		return who
	}
	return fmt.Sprintf("%d of %s", left, who)
}

package show

import (
	"strings"

	"pravet/internal/core/access"
	"pravet/internal/core/words"
)

// Like writes which kits somebody could hold to have what another has.
func (p *Printer) Like(l *access.Likeness, sensitive bool) {
	kits := func(title string, list []access.LikeKit, note func(k *access.LikeKit) string) {
		if len(list) == 0 {
			return
		}
		p.Line()
		p.Line(Strong(title))
		for i := range list {
			k := &list[i]
			line := "  " + words.Clean(k.Kit) + ": " + words.Clean(strings.Join(k.Gives, ", "))
			p.wrapped("", line, nil)
			if text := note(k); text != "" {
				p.wrapped("      ", text, Dim)
			}
		}
	}
	kits("Held by name, and can be given by name:", l.Kits, func(k *access.LikeKit) string {
		if len(k.Sensitive) == 0 {
			return ""
		}
		text := "sensitive: " + words.Clean(strings.Join(k.Sensitive, ", "))
		if !sensitive {
			text += "; left out, unless --sensitive is given"
		}
		return text
	})
	kits("Held by a rule, which does not match:", l.Rule, func(k *access.LikeKit) string {
		return "for " + words.Clean(k.Rule) + "; correct the attributes where both do the same work"
	})
	if len(l.Rest) > 0 {
		p.Line()
		p.Line(Strong("Held and given by no kit, so it is left out:"))
		p.wrapped("  ", words.Clean(strings.Join(l.Rest, ", ")), nil)
	}
	if len(l.Kits)+len(l.Rule)+len(l.Rest) == 0 {
		p.Line()
		p.Line("There is nothing that the first has and the second lacks.")
	}
	p.Line()
}

package export

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"pravet/internal/core/model"
)

// DatedMark stands in a file's name for when the export was taken.
const DatedMark = "{taken}"

// dated is how a time is written in a file's name: a day, and a time of that day
// in UTC if it is said, with or without what separates them.
var dated = regexp.MustCompile(`^\d{4}-?\d\d-?\d\d([T_-]?\d\d[-:]?\d\d([-:]?\d\d)?Z?)?$`)

// parseDated reads a time in a file's name.
func parseDated(text string) (time.Time, bool) {
	if !dated.MatchString(text) {
		return time.Time{}, false
	}
	digits := strings.Map(func(r rune) rune {
		if r < '0' || r > '9' {
			return -1
		}
		return r
	}, text)
	t, err := time.Parse("20060102150405"[:len(digits)], digits)
	return t, err == nil
}

// Dated reports whether the names of an export's files say when it was taken.
func Dated(paths []model.Name) bool {
	return slices.ContainsFunc(paths, func(p model.Name) bool { return strings.Contains(p.Text, DatedMark) })
}

// Latest finds the files of an export whose names say when it was taken: those of
// the latest time at which all are there. list lists the files of a folder. Without
// any, an error says which name nothing fits.
func Latest(
	paths []model.Name,
	list func(folder string) ([]string, error),
) (files []model.Name, taken time.Time, err error) {
	var common map[time.Time][]model.Name // time → the files of the names so far
	for n, p := range paths {
		here := map[time.Time]string{}
		folder, name := path.Split(p.Text)
		before, after, ok := strings.Cut(name, DatedMark)
		if ok {
			names, err := list(path.Clean(folder))
			if err != nil {
				return nil, time.Time{}, err
			}
			for _, f := range names {
				text, fits := strings.CutPrefix(f, before)
				text, ends := strings.CutSuffix(text, after)
				t, isTime := parseDated(text)
				// Of two ways to write a time, the one that sorts last counts.
				if fits && ends && isTime && folder+f > here[t] {
					here[t] = folder + f
				}
			}
			if len(here) == 0 {
				return nil, time.Time{}, fmt.Errorf("no file is named as %s says", p.Text)
			}
		}
		next := map[time.Time][]model.Name{}
		add := func(t time.Time, so []model.Name, text string) {
			next[t] = append(slices.Clone(so), model.Name{Text: text, Pos: p.Pos})
		}
		switch {
		case !ok && n == 0:
			add(time.Time{}, nil, p.Text)
		case !ok:
			for t, so := range common {
				add(t, so, p.Text)
			}
		default:
			for t, file := range here {
				if so, both := common[t]; n == 0 || both {
					add(t, so, file)
				} else if so, only := common[time.Time{}]; only { // names without a time so far
					add(t, so, file)
				}
			}
		}
		if common = next; len(common) == 0 {
			return nil, time.Time{}, fmt.Errorf("there is no single export time for which every file exists, including %s", p.Text)
		}
	}
	for t := range common {
		if t.After(taken) {
			taken = t
		}
	}
	return common[taken], taken, nil
}

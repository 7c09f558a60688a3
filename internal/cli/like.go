package cli

import (
	"errors"

	"github.com/spf13/cobra"

	"pravet/internal/amend"
	"pravet/internal/core/access"
	"pravet/internal/desk"
	"pravet/internal/show"
)

func (c *program) amendLike() *cobra.Command {
	r := &rewriting{}
	var to, until string
	var sensitive bool
	cmd := &cobra.Command{
		Use:   "like PERSON --for OTHER",
		Short: "Give somebody what a colleague has, kit by kit",
		Long: `Like puts two people side by side: what both have, what the second will have by rule
anyway, and what the first has besides. It proposes whole kits to be held by name, with
--because and, better, with --until. What no kit gives is shown and left out: put it into
a kit first. What is sensitive is left out too, unless --sensitive is given.

A rule is better than a copy: where both do the same work, correct the attributes of the
second, so that the same rules match.`,
		Example: example(
			"pravet amend like E0031 --for E0118",
			"pravet amend like E0031 --for E0118 --until 2027-01-31 --because 'covers for Mirela' --sensitive",
		),
		Args: takes(1, 1, "like whom?", "pravet amend like E0031 --for E0118"),
	}
	r.flags(cmd)
	cmd.Flags().StringVar(&to, "for", "", "who is to have it, by id or user name")
	cmd.Flags().StringVar(&until, "until", "", "the last day on which it counts, YYYY-MM-DD")
	cmd.Flags().BoolVar(&sensitive, "sensitive", false, "what is sensitive too")
	offer(cmd, "for", c.completePeople)
	cmd.ValidArgsFunction = c.completePeople
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		last, err := lastDay(until)
		if err != nil {
			return err
		}
		e := amend.Entry{Because: r.because, Until: last}
		d, err := c.desk()
		if err != nil {
			return err
		}
		v, err := d.Look(nil, d.Today())
		if err != nil {
			return err
		}
		c.missing(v)
		repo := v.State.Repo
		var people [2]int
		for i, name := range []string{args[0], to} {
			if people[i], err = desk.Somebody(repo, name); err != nil {
				return err
			}
		}
		if people[0] == people[1] {
			return usage(sayLikeOneself())
		}
		like := v.Like(people[0], people[1])
		if r.format == "table" {
			p := show.NewPrinter(c.Stdout, c.Environ)
			p.Beside(access.Beside(v.Why(people[0], nil), v.Why(people[1], nil)))
			p.Like(like, sensitive)
			if p.Err() != nil {
				return p.Err()
			}
		}
		if e.Because == "" {
			if r.write || r.commit {
				return usage(sayBecauseOf())
			}
			e.Because = sayLike(repo.People.Get(people[0], "id"))
		}
		a, _, err := d.Amend()
		if err != nil {
			return err
		}
		e.Person = repo.People.Get(people[1], "id")
		chosen := 0
		for _, k := range like.Kits {
			if len(k.Sensitive) > 0 && !sensitive {
				continue
			}
			a.Hold(repo.Kits[k.Number], e)
			chosen++
		}
		if chosen == 0 {
			return nil
		}
		r.subject = sayAmended("like", args, []string{e.Person})
		return c.rewrite(d, repo, a, r)
	}
	return cmd
}

// sayLike stands for the reason of a copy while nobody has given one.
func sayLike(id string) string { return "like " + id }

// sayLikeOneself is a person who is to become like themselves.
func sayLikeOneself() error { return errors.New("both are the same person; name two") }

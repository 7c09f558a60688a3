package cli

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"net/http"

	"github.com/spf13/cobra"

	"pravet/internal/core/access"
	"pravet/internal/core/day"
	"pravet/internal/core/letter"
	"pravet/internal/decisions"
	"pravet/internal/desired"
	"pravet/internal/ledger"
	"pravet/internal/letters"
	"pravet/internal/post"
	"pravet/internal/prepare"
	"pravet/internal/say"
	"pravet/internal/secret"
	"pravet/internal/show"
)

func (c *program) letters() *cobra.Command {
	var format string
	var send bool
	cmd := &cobra.Command{
		Use:     "letters",
		Short:   "Show who is to be told what, and send it",
		GroupID: carrying,
		Long: `Letters shows the letters that are due: one for each reader whom pravet.yaml names,
with what runs of the last days have carried out, and which removals fall due and
what expires in the days to come. Nobody is told the same thing twice.

With --send they are sent. Apply sends them by itself, after a run.`,
		Example: example("pravet letters", "pravet letters --send"),
		Args:    takes(0, 0, "", ""),
	}
	formatFlag(cmd, &format, "text", "json", "csv")
	cmd.Flags().BoolVar(&send, "send", false, "send them")
	cmd.RunE = func(*cobra.Command, []string) error {
		dir, err := c.dir()
		if err != nil {
			return err
		}
		repo, err := c.rules(dir)
		if err != nil {
			return err
		}
		if repo.Problems.Errors() > 0 {
			return c.problems(prepare.Of(repo))
		}
		if repo.Letters == nil {
			c.tell(say.NoLetters())
			return nil
		}
		if send {
			l, err := c.soundLedger(dir)
			if err != nil {
				return err
			}
			defer l.Close()
			release, err := l.Lease("letters")
			if err != nil {
				return err
			}
			defer release()
			return c.send(dir, repo, l)
		}
		l, err := c.questioned(dir)
		if err != nil {
			return err
		}
		defer l.Close()
		parcels, told, err := c.due(dir, repo, l, c.ways(repo, nil))
		if err != nil {
			return err
		}
		if format != "text" {
			return show.Output(c.Stdout, c.Environ, format, show.LetterTable(letterList(parcels)))
		}
		return c.paged(func(p *show.Printer) error {
			c.preview(p, parcels, told)
			return p.Err()
		})
	}
	return cmd
}

func letterList(parcels []letters.Parcel) (out []letter.Letter) {
	for _, p := range parcels {
		out = append(out, p.Letter)
	}
	return out
}

// preview shows letters as they would be sent.
func (c *program) preview(p *show.Printer, parcels []letters.Parcel, told *letters.Told) {
	for _, x := range parcels {
		p.Line(show.Strong(say.LetterTo(&x.Letter, x.Way.Name())))
		for _, line := range say.LetterLines(&x.Letter) {
			p.Line("  " + line)
		}
		p.Line()
	}
	p.Line(say.LettersDue(len(parcels)))
	for _, u := range told.Unsure {
		p.Line(say.LetterUnsure(u.ID, u.To, u.Way, u.At))
	}
}

// ways are those by which letters go. With notes their secrets are read, and a way whose
// secret cannot be had is left out, noted.
func (c *program) ways(repo *desired.Repo, note func(error)) (out []post.Way) {
	for i := range repo.Letters.Ways {
		w, err := c.way(repo, &repo.Letters.Ways[i], note != nil)
		if err != nil {
			note(err)
			continue
		}
		out = append(out, w)
	}
	return out
}

func (c *program) way(repo *desired.Repo, w *desired.LetterWay, secrets bool) (post.Way, error) {
	from, domain := repo.Letters.From, repo.Letters.Domain
	read := func(ref string) (string, error) {
		if ref == "" || !secrets {
			return "", nil
		}
		value, err := secret.Read(c.ctx, ref, c.Environ)
		if err != nil {
			return "", fmt.Errorf("%s: %w", w.Pos, err)
		}
		return value, nil
	}
	var roots *x509.CertPool
	if w.CA != "" && secrets {
		var err error
		if roots, err = repo.Tree.Roots(c.ctx, w.CA); err != nil {
			return nil, err
		}
	}
	switch {
	case w.Folder != "":
		return &post.Folder{
			Path:   w.Folder,
			From:   from,
			Domain: domain,
			Write: func(name string, write func(io.Writer) error) error {
				s, err := repo.Tree.Stage(w.Folder+"/"+name, 0o600, write)
				if err != nil {
					return err
				}
				return s.Commit()
			},
		}, nil
	case w.SMTP != "":
		user, err := read(w.User)
		if err != nil {
			return nil, err
		}
		password, err := read(w.Password)
		if err != nil {
			return nil, err
		}
		return &post.SMTP{
			Host: w.SMTP, Port: w.Port, TLS: w.TLS, User: user, Password: password, From: from, Domain: domain, Roots: roots,
		}, nil
	}
	key, err := read(w.Secret)
	if err != nil {
		return nil, err
	}
	hook := &post.Webhook{URL: w.Webhook, Secret: key}
	if roots != nil {
		hook.Client = &http.Client{
			Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: roots, MinVersion: tls.VersionTLS12}},
		}
	}
	return hook, nil
}

// due are the letters that are due now.
func (c *program) due(
	dir string,
	repo *desired.Repo,
	l ledger.Ledger,
	ways []post.Way,
) ([]letters.Parcel, *letters.Told, error) {
	today := day.Of(c.Now())
	s, v, missing, err := prepare.Look(c.ctx, repo, nil, today)
	if err := c.told(s, missing, err); err != nil {
		return nil, nil, err
	}
	if err := c.remember(dir, repo, v); err != nil {
		return nil, nil, err
	}
	rejections, err := decisions.Rejections(l, decisions.Of(repo))
	if err != nil {
		return nil, nil, err
	}
	falling := v.Falling(
		today.Add(repo.Letters.Ahead),
		access.Stood{Rejections: rejections, Lifts: repo.Lifts, Kept: repo.Kept},
	)
	items, err := letters.Items(l, falling, today)
	if err != nil {
		return nil, nil, err
	}
	told, err := letters.Before(l)
	if err != nil {
		return nil, nil, err
	}
	readers, without := letters.Readers(repo, v.Stages)
	for _, w := range without {
		c.tell(w)
	}
	return told.Pack(repo, ways, readers, items, today), told, nil
}

// send sends the letters that are due, and says what became of them. The caller has the
// lease.
func (c *program) send(dir string, repo *desired.Repo, l ledger.Ledger) error {
	failed := 0
	ways := c.ways(repo, func(err error) {
		failed++
		c.tell(say.NoWay(err))
	})
	parcels, _, err := c.due(dir, repo, l, ways)
	if err != nil {
		return err
	}
	results, err := letters.Send(c.ctx, l, parcels, c.Now())
	sent := 0
	for _, r := range results {
		if r.Err == nil {
			sent++
			continue
		}
		failed++
		c.tell(say.LetterFailed(&r.Letter, r.Err, post.Arrived(r.Err)))
	}
	if sent > 0 || failed == 0 {
		c.tell(say.LettersSent(sent))
	}
	if err == nil && failed > 0 {
		err = &statusError{status: Failed}
	}
	return err
}

// inform sends letters after a run. What goes wrong is said, and changes nothing about
// the run: the letters go the next time.
func (c *program) inform(dir string, repo *desired.Repo, l ledger.Ledger) {
	if repo.Letters == nil || c.ctx.Err() != nil {
		return
	}
	fresh, err := c.rules(dir)
	if err == nil {
		err = c.send(dir, fresh, l)
	}
	if err != nil {
		c.tell(say.LettersLater(err))
	}
}

package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/term"

	"pravet/internal/core/plan"
	"pravet/internal/show"
	"pravet/internal/source"
)

// paged writes to standard output; on a terminal, what is longer than that goes
// through the pager that PAGER names, less where it names none, as Git does it.
func (c *program) paged(write func(*show.Printer) error) error {
	pager := c.pager()
	if pager == "" {
		return write(show.NewPrinter(c.Stdout, c.Environ))
	}
	screen := show.NewPrinter(c.Stdout, c.Environ)
	var text bytes.Buffer
	err := write(screen.To(&text))
	_, lines := show.Size(c.Stdout, c.Environ)
	if err != nil || bytes.Count(text.Bytes(), []byte{'\n'}) < lines {
		screen.Text(text.String())
		return errors.Join(err, screen.Err())
	}
	var safe bytes.Buffer
	if _, err := show.Safe(&safe).Write(text.Bytes()); err != nil {
		return err
	}
	cmd := exec.CommandContext(context.WithoutCancel(c.ctx), "/bin/sh", "-c", pager)
	cmd.Dir, cmd.Stdin, cmd.Stdout, cmd.Stderr = c.Dir, &safe, os.Stdout, os.Stderr
	cmd.Env = append([]string{"LESS=FRX"}, c.Environ...) // what the environment says counts
	if cmd.Run() != nil {
		screen.Text(text.String()) // there is no such pager
	}
	return screen.Err()
}

// pager is the command that long output goes through, "" where there is none.
func (c *program) pager() string {
	if c.noPager || c.raw != os.Stdout || !onTerminal(c.Stdout) || c.env("TERM") == "dumb" {
		return ""
	}
	if pager := strings.TrimSpace(c.env("PAGER")); pager != "" {
		if pager == "cat" {
			return ""
		}
		return pager
	}
	if _, err := exec.LookPath("less"); err == nil {
		return "less"
	}
	return ""
}

func onTerminal(w any) bool {
	f, ok := w.(interface{ Fd() uintptr })
	return ok && term.IsTerminal(int(f.Fd()))
}

// shownFolder has a file for each terminal, which notes the plan that was shown on it last, for
// decisions about it.
const shownFolder = ".pravet/shown"

// shownFor says for how long after a plan was shown its numbers can be used on that terminal.
const shownFor = 12 * time.Hour

// A shownPlan is a plan that a terminal shows.
type shownPlan struct {
	Plan string    `json:"plan"`
	At   time.Time `json:"at"`
}

// shownFile is the file of this terminal.
func (c *program) shownFile(dir string) string {
	name := terminal() + "\x00" + c.environment
	return filepath.Join(dir, shownFolder, plan.Name(name)+".json")
}

// shown notes that a plan is shown on a terminal.
func (c *program) shown(dir string, p *plan.Plan) error {
	if dir == "" || !onTerminal(c.Stdout) {
		return nil
	}
	if _, err := os.Stat(filepath.Join(dir, filepath.Dir(shownFolder))); err != nil {
		return nil // there is no ledger either
	}
	data, err := json.Marshal(shownPlan{p.ID, c.Now().UTC()})
	if err != nil {
		return err
	}
	file := c.shownFile(dir)
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	return source.WriteFile(file, bytes.NewReader(data), 0o600)
}

// shownLast is the id of the plan that this terminal shows, "" where it shows none.
func (c *program) shownLast(dir string) string {
	data, err := source.ReadFile(c.shownFile(dir), c.shownFile(dir), 4096)
	if err != nil {
		return ""
	}
	var last shownPlan
	if json.Unmarshal(data, &last) != nil || c.Now().Sub(last.At) > shownFor {
		return ""
	}
	return last.Plan
}

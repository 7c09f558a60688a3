package cli

import (
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"pravet/internal/core/model"
	"pravet/internal/ledger"
)

func (c *program) ledger() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "ledger",
		Short:   "Keep the record of a team in a database: make it, move it there and back",
		GroupID: carrying,
		Long: `The ledger is a file of the repository, unless pravet.yaml names a PostgreSQL database
under ledger: then everybody who works with the files shares one record, with the
plans in it. See docs/together.md.`,
		Example: example("pravet ledger grant"),
		Args:    takes(0, 0, "", ""),
		RunE:    func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(c.grant(), c.move())
	return cmd
}

func (c *program) grant() *cobra.Command {
	var user, password string
	var run bool
	cmd := &cobra.Command{
		Use:   "grant",
		Short: "Print the SQL that makes the record, and roles that may only add to it",
		Long: `Grant prints SQL for the database that pravet.yaml names under ledger: a role that owns
the tables, one that may add entries and read them, one that may only read them, and
the second of these for the user whom pravet.yaml names. Nobody who signs in as that
user can change or remove an entry. It may be run again, and after an update it must be.
Hand it to psql, or let it run with --run.`,
		Example: example("pravet ledger grant", "pravet ledger grant --run --user postgres --password env:PGPASSWORD"),
		Args:    takes(0, 0, "", ""),
	}
	cmd.Flags().BoolVar(&run, "run", false, "run the SQL instead of printing it")
	cmd.Flags().StringVar(&user, "user", "", "with --run: who signs in to run it; may make roles and schemas")
	cmd.Flags().StringVar(&password, "password", "", "with --run: where the password of this user is, as env:NAME or file:PATH")
	cmd.RunE = func(*cobra.Command, []string) error {
		d, err := c.desk()
		if err != nil {
			return err
		}
		if !run {
			sql, err := d.Grant()
			if err != nil {
				return err
			}
			_, err = io.WriteString(c.Stdout, sql)
			return err
		}
		if err := d.RunGrant(user, password); err != nil {
			return err
		}
		fmt.Fprintln(c.Stdout, sayGranted())
		return nil
	}
	return cmd
}

func (c *program) move() *cobra.Command {
	var back bool
	cmd := &cobra.Command{
		Use:   "move",
		Short: "Move the record from its file into the database, or back",
		Long: `Move proves every entry of the ledger, says in a last entry where it goes on, copies
all of it, and compares. The one that it left refuses to go on from then on. What was
cut off is moved again, and goes on where it was.

With --back the record goes from the database into the file; take ledger out of
pravet.yaml then.`,
		Example: example("pravet ledger move", "pravet ledger move --back"),
		Args:    takes(0, 0, "", ""),
	}
	cmd.Flags().BoolVar(&back, "back", false, "from the database into the file")
	cmd.RunE = func(*cobra.Command, []string) error {
		d, err := c.desk()
		if err != nil {
			return err
		}
		m, err := d.Move(back)
		if err != nil {
			return err
		}
		fmt.Fprintln(c.Stdout, sayMoved(m))
		return nil
	}
	return cmd
}

// sayGranted is said once the SQL has run.
func sayGranted() string {
	return "The record is there, and its user may add to it and read it."
}

// sayMoved is said once a record was moved.
func sayMoved(m *ledger.Move) string {
	return fmt.Sprintf(
		"Moved: %s from %s to %s, head %s. The first of the two takes no more.",
		model.Count(int(m.Head.Seq), "entry", "entries"), m.From, m.To, m.Head.Hash,
	)
}

// Package quarter is the last quarter of 2026 at the ticket sales and the berth planning of
// Marrowick Ferries: small files, and what happens on which day.
package quarter

import (
	"embed"
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

//go:embed pravet.yaml people kits apps paths exports
var files embed.FS

// First and Last are the days of the quarter, with some of the next year, YYYY-MM-DD.
const (
	First = "2026-10-01"
	Last  = "2027-01-15"
)

// A Happening is what people do on a day: in a file something becomes something else.
type Happening struct {
	Day, Says     string
	File, Was, Is string
	// Silent is how many days nobody drafts or carries out anything from then on.
	Silent int
}

const people, tickets, berths = "people/all.csv", "exports/tickets.csv", "exports/berths.csv"

// Happenings are those of the quarter, in their order.
var Happenings = []Happening{
	{
		Day: "2026-10-02", Says: "Viktor Sandoval leaves; an inquiry wants his account to be kept.", File: people,
		Was: "E0007,2018-01-15,", Is: "E0007,2018-01-15,2026-10-02",
	},
	{
		Day: "2026-10-02", File: "standing.yaml",
		Is: "kept:\n  - {person: E0029, until: 2027-03-31, because: the harbour inquiry}\n",
	},
	{
		Day: "2026-10-05", Says: "Abel Rosen joins the berth planners. He never answers his invitation.", File: people,
		Was: "S2601,", Is: "E0120,abel.rosen,Abel Rosen,Planning,Employee,E0045,2026-10-05,\nS2601,",
	},
	{
		Day: "2026-10-06", Says: "Yara Solberg is hired. She starts on 13 October.", File: people,
		Was: "S2601,", Is: "E0118,yara.solberg,Yara Solberg,Ticketing,Employee,E0007,2026-10-13,\nS2601,",
	},
	{
		Day: "2026-10-09", Says: "It is Noor Haddad's last day.", File: people, Was: "E0007,2020-03-01,",
		Is: "E0007,2020-03-01,2026-10-09",
	},
	{
		Day: "2026-10-19", Says: "Tilda Moss left on Friday, and the list comes on Monday.", File: people,
		Was: "E0007,2020-06-01,", Is: "E0007,2020-06-01,2026-10-16",
	},
	{
		Day: "2026-10-21", Says: "Ines Calder moves from the ticket desk to the berth planners.", File: people,
		Was: "E0018,ines.calder,Ines Calder,Ticketing,", Is: "E0018,ines.calder,Ines Calder,Planning,",
	},
	{
		Day: "2026-10-23", Says: "Ines accepts her invitation.", File: berths,
		Was: "ines.calder,Ines Calder,Invited,", Is: "ines.calder,Ines Calder,Open,",
	},
	{
		Day: "2026-10-28", Says: "Tomas Quill takes over Noor's records in the application.", File: tickets,
		Was: "noor.haddad,Noor Haddad,Blocked,quay,seller,12", Is: "noor.haddad,Noor Haddad,Blocked,quay,seller,0",
	},
	{Day: "2026-10-30", Says: "For two weeks nobody runs anything.", Silent: 14},
	{
		Day: "2026-11-18", Says: "Tilda Moss is back.", File: people, Was: "E0007,2020-06-01,2026-10-16",
		Is: "E0007,2020-06-01,",
	},
	{
		Day: "2027-01-11", Says: "Noor Haddad is hired again.", File: people, Was: "E0007,2020-03-01,2026-10-09",
		Is: "E0007,2027-01-11,",
	},
}

// Write writes the repository into a folder.
func Write(dir string) error { return os.CopyFS(dir, files) }

// Do lets something happen in the repository of a folder.
func (h *Happening) Do(dir string) error {
	if h.File == "" {
		return nil
	}
	name := filepath.Join(dir, filepath.FromSlash(h.File))
	data, err := os.ReadFile(name)
	if err != nil && (h.Was != "" || !os.IsNotExist(err)) {
		return err
	}
	text := string(data)
	if !strings.Contains(text, h.Was) {
		return fmt.Errorf("%s does not hold %q on %s", h.File, h.Was, h.Day)
	}
	return os.WriteFile(name, []byte(strings.Replace(text, h.Was, h.Is, 1)), 0o644)
}

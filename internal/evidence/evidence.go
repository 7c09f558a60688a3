// Package evidence writes an archive for somebody who trusts nobody's word: what is on record of a time, with the plans, the
// signatures and the keys, and how all of that is proved with sha256sum, sqlite3 and ssh-keygen alone.
package evidence

import (
	"archive/tar"
	"bytes"
	"cmp"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"database/sql"
	_ "embed"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	_ "modernc.org/sqlite" // the archive has a database in it

	"pravet/internal/core/day"
	"pravet/internal/decisions"
	"pravet/internal/desired"
	"pravet/internal/ledger"
	"pravet/internal/past"
)

// An Input is what an archive is made of.
type Input struct {
	Ledger   ledger.Ledger
	Repo     *desired.Repo
	From, To day.Day // both are in it
	// Plan is the file of a plan; nil where it is not to be had.
	Plan func(id string) []byte
	// Pseudonyms puts other names in the place of those of people, the same for each everywhere in the archive.
	Pseudonyms bool
}

// A Summary is what is in an archive.
type Summary struct {
	Entries, Plans, Decisions, Signed, States int
	First, Last                               ledger.Head
	Missing                                   []string // plans that are on record, and not to be had
}

//go:embed README.txt
var readme string

//go:embed verify.sh
var verify string

//go:embed covered.txt
var covered string

// Write writes the archive: a tar file, gzipped. Made again of the same, it is the same.
func Write(ctx context.Context, w io.Writer, in Input) (*Summary, error) {
	files := map[string][]byte{"verify.sh": []byte(verify)}
	out := &Summary{}
	folder, err := os.MkdirTemp("", "pravet-evidence-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(folder)
	b := &builder{Input: in, files: files, out: out, plans: map[string]bool{}, list: &bytes.Buffer{}, states: map[string]bool{}}
	if in.Pseudonyms {
		if b.cover, err = b.covering(); err != nil {
			return nil, err
		}
	}
	if err := b.record(ctx, filepath.Join(folder, "record.db")); err != nil {
		return nil, err
	}
	if out.Entries == 0 {
		return nil, sayNothingThen(in.From, in.To)
	}
	text := readme
	if in.Pseudonyms {
		text = covered
		delete(files, "verify.sh")
	} else {
		files["decisions/list.txt"] = b.list.Bytes()
	}
	files["README.txt"] = []byte(fmt.Sprintf(
		text, in.Repo.Organization, in.From, in.To, out.Entries, out.First.Seq, out.Last.Seq, out.Last.Hash, out.Plans, out.Signed,
		out.Decisions, out.States,
	))
	if files["record.db"], err = os.ReadFile(filepath.Join(folder, "record.db")); err != nil {
		return nil, err
	}
	return out, pack(w, files)
}

type builder struct {
	Input
	files  map[string][]byte
	out    *Summary
	plans  map[string]bool
	states map[string]bool
	list   *bytes.Buffer
	cover  *strings.Replacer // nil where names stay
}

// covering puts pseudonyms in the place of the ids, user names, names and addresses of people, and of the names of accounts in
// plans. Longer ones come first, so that no part of one is left.
func (b *builder) covering() (*strings.Replacer, error) {
	names := map[string]string{} // what is replaced → whose it is
	own := func(person string, texts ...string) {
		for _, text := range texts {
			if len(text) >= shortest && names[text] == "" {
				names[text] = person
			}
		}
	}
	people := b.Repo.People
	for i := range people.Len() {
		id := people.Get(i, "id")
		own(id, id, people.Get(i, "userName"), people.Get(i, "displayName"), people.Get(i, "email"))
	}
	err := b.Ledger.Scan(ledger.Query{Kinds: []ledger.Kind{ledger.Outcome}}, func(e *ledger.Entry) error {
		o, err := ledger.Decode[ledger.ChangeOutcome](e)
		own(cmp.Or(o.Person, o.Account), o.Person, o.Account)
		return err
	})
	if err != nil {
		return nil, err
	}
	number := map[string]string{}
	for _, person := range slices.Sorted(maps.Values(names)) {
		if number[person] == "" {
			number[person] = fmt.Sprintf("Person-%05d", len(number)+1)
		}
	}
	var pairs []string
	for _, text := range slices.SortedFunc(maps.Keys(names), func(x, y string) int {
		return cmp.Or(cmp.Compare(len(y), len(x)), strings.Compare(x, y))
	}) {
		pairs = append(pairs, text, number[names[text]])
	}
	return strings.NewReplacer(pairs...), nil
}

// shortest is how long a name must be to be replaced wherever it stands, in bytes.
const shortest = 4

// told is a text as the archive has it.
func (b *builder) told(text string) string {
	if b.cover == nil {
		return text
	}
	return b.cover.Replace(text)
}

// who is who made an entry: as it says, or by a pseudonym and without an address.
func (b *builder) who(by string) string {
	if b.cover == nil {
		return by
	}
	return b.told(ledger.Who(by))
}

// add puts a file into the archive.
func (b *builder) add(name string, data []byte) { b.files[name] = []byte(b.told(string(data))) }

const tables = `PRAGMA journal_mode = OFF; PRAGMA page_size = 4096;
CREATE TABLE entries (
	seq INTEGER PRIMARY KEY, at TEXT NOT NULL, by TEXT NOT NULL, kind TEXT NOT NULL, subject TEXT NOT NULL, body TEXT NOT NULL,
	prev TEXT NOT NULL, hash TEXT NOT NULL, line TEXT NOT NULL
);
CREATE VIEW decisions AS SELECT seq, at, by, json_extract(body, '$.verdict') AS verdict, json_extract(body, '$.plan') AS plan,
	json_extract(body, '$.because') AS because, json_extract(body, '$.signed') IS NOT NULL AS signed FROM entries WHERE kind = 'decision';
CREATE VIEW runs AS SELECT seq, at, by, subject AS run, json_extract(body, '$.plan') AS plan FROM entries WHERE kind = 'run';
CREATE VIEW outcomes AS SELECT seq, at, subject AS run, json_extract(body, '$.what') AS what, json_extract(body, '$.person') AS person,
	json_extract(body, '$.settled') AS settled, json_extract(body, '$.says') AS says FROM entries WHERE kind = 'outcome';
`

// record writes the entries of the time into a database, and what belongs to them into files.
func (b *builder) record(ctx context.Context, file string) error {
	db, err := sql.Open("sqlite", file)
	if err != nil {
		return err
	}
	defer db.Close()
	if _, err := db.ExecContext(ctx, tables); err != nil {
		return err
	}
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	insert, err := tx.Prepare(`INSERT INTO entries VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`)
	if err != nil {
		return err
	}
	zone := b.Ledger.Zone()
	err = b.Ledger.Scan(ledger.Query{}, func(e *ledger.Entry) error {
		on, err := zone.DayOf(e.At)
		if err != nil || on < b.From {
			return err
		}
		if on > b.To {
			return ledger.ErrStop
		}
		if b.out.Entries == 0 {
			b.out.First = ledger.Head{Seq: e.Seq, Hash: e.Hash}
		}
		b.out.Entries++
		b.out.Last = ledger.Head{Seq: e.Seq, Hash: e.Hash}
		line, body := e.Line(), e.Body
		if b.cover != nil {
			if line = ""; e.Kind == ledger.Decided {
				body = unsigned(body)
			}
		}
		if _, err := insert.Exec(
			e.Seq, e.At, b.who(e.By), e.Kind, b.told(e.Subject), b.told(string(body)), e.Prev, e.Hash, line,
		); err != nil {
			return err
		}
		return b.belongs(ctx, e)
	})
	if err != nil {
		return err
	}
	return tx.Commit()
}

// belongs adds what belongs to an entry.
func (b *builder) belongs(ctx context.Context, e *ledger.Entry) error {
	var about struct{ Plan string }
	if err := json.Unmarshal(e.Body, &about); err != nil {
		return err
	}
	if id := about.Plan; id != "" && !b.plans[id] {
		b.plans[id] = true
		if data := b.Plan(id); data != nil {
			b.out.Plans++
			b.add("plans/"+id+".json", data)
		} else {
			b.out.Missing = append(b.out.Missing, id)
		}
	}
	switch e.Kind {
	case ledger.ExportSeen:
		x, err := ledger.Decode[ledger.Export](e)
		if err != nil || x.Held == "" || b.states[x.Held] {
			return err
		}
		b.states[x.Held] = true
		text, err := past.Text(b.Ledger, x.Held)
		if err != nil {
			return err
		}
		b.out.States++
		b.add(fmt.Sprintf("states/%06d-%s.txt", e.Seq, x.App), text)
	case ledger.Decided:
		return b.decision(ctx, e)
	}
	return nil
}

// decision adds a decision and, where it is signed, what proves it.
func (b *builder) decision(ctx context.Context, e *ledger.Entry) error {
	d, err := ledger.Decode[ledger.Decision](e)
	if err != nil {
		return err
	}
	b.out.Decisions++
	if d.Signed == nil {
		return nil
	}
	if b.cover != nil {
		b.out.Signed++
		return nil
	}
	proof, err := decisions.ProofOf(ctx, b.Ledger, b.Repo, &d)
	if err != nil {
		return fmt.Errorf("entry %d of the ledger: %w", e.Seq, err)
	}
	b.out.Signed++
	keys := "keys/" + proof.Revision + "/allowed_signers"
	name := fmt.Sprintf("decisions/%06d", e.Seq)
	b.files[name+".message"], b.files[name+".sig"], b.files[keys] = []byte(d.Signed.Message), []byte(d.Signed.Signature), proof.Keys
	fmt.Fprintf(b.list, "%06d %s %s %s\n", e.Seq, proof.Principal, strings.ReplaceAll(proof.Day, "-", ""), keys)
	return nil
}

// unsigned is a decision without what was signed, in which the names are that it is about.
func unsigned(body json.RawMessage) json.RawMessage {
	var fields map[string]json.RawMessage
	if json.Unmarshal(body, &fields) != nil {
		return json.RawMessage("{}")
	}
	if fields["signed"] != nil {
		fields["signed"] = json.RawMessage("true")
	}
	out, err := json.Marshal(fields)
	if err != nil {
		return json.RawMessage("{}")
	}
	return out
}

// pack writes files in the order of their names, with their sums, and without a time.
func pack(w io.Writer, files map[string][]byte) error {
	var sums bytes.Buffer
	for _, name := range slices.Sorted(maps.Keys(files)) {
		fmt.Fprintf(&sums, "%x  %s\n", sha256.Sum256(files[name]), name)
	}
	files["SHA256SUMS"] = sums.Bytes()
	z := gzip.NewWriter(w)
	t := tar.NewWriter(z)
	for _, name := range slices.Sorted(maps.Keys(files)) {
		mode := int64(0o644)
		if strings.HasSuffix(name, ".sh") {
			mode = 0o755
		}
		err := t.WriteHeader(&tar.Header{
			Name: "evidence/" + name, Mode: mode, Size: int64(len(files[name])), ModTime: time.Unix(0, 0).UTC(), Format: tar.FormatUSTAR,
		})
		if err == nil {
			_, err = t.Write(files[name])
		}
		if err != nil {
			return err
		}
	}
	if err := t.Close(); err != nil {
		return err
	}
	return z.Close()
}

// sayNothingThen is a time of which nothing is on record.
func sayNothingThen(from, to day.Day) error {
	return fmt.Errorf("nothing is on record from %s to %s", from, to)
}

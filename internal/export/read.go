package export

import (
	"context"
	"encoding/hex"
	"fmt"
	"strings"
	"time"

	"pravet/internal/core/model"
	"pravet/internal/source"

	"github.com/zeebo/blake3"
)

// Info is what is known of an export besides its accounts.
type Info struct {
	Digest  string    // SHA-256 of the file, or over the digests of several
	TakenAt time.Time // when it was taken: as it says, else when the file was written last, the oldest of several
	Says    bool      // it says so itself
}

// Read reads an application's export. Errors about the files are of type
// *source.Problem.
func Read(ctx context.Context, tree *source.Tree, spec *Spec, app *model.App) (*model.Accounts, *Info, error) {
	return read(ctx, tree, spec, app, nil)
}

// Find reads, of an application's export, the accounts that may be one with any of
// some match values: at least that, and of CSV files few more. The Info has no
// digest.
func Find(
	ctx context.Context,
	tree *source.Tree,
	spec *Spec,
	app *model.App,
	keys ...string,
) (*model.Accounts, *Info, error) {
	return read(ctx, tree, spec, app, keys)
}

func read(
	ctx context.Context,
	tree *source.Tree,
	spec *Spec,
	app *model.App,
	only []string,
) (*model.Accounts, *Info, error) {
	b := newBuilder(app)
	info := &Info{}
	var sums []string
	var scim *scimReader
	var records *recordReader
	var err error
	for i, path := range spec.Files() {
		name := path.Text
		var src *source.Reader
		if src, err = tree.OpenAs(ctx, name, spec.Encoding); err != nil {
			return nil, nil, atSpec(err, spec, path.Pos)
		}
		switch {
		case i >= len(spec.Paths):
			b.out.Definitions, err = readDefinitions(src, name, spec.Definitions, app)
		case spec.Format == "csv":
			err = readCSV(src, name, spec, b, only)
		case spec.Format == "scim":
			if scim == nil {
				scim = newSCIMReader(spec, b)
			}
			err = scim.read(src, name)
		case spec.Format == "jsonl", spec.Format == "ldif":
			if records == nil {
				records = newRecordReader(app, b)
			}
			if spec.Format == "ldif" {
				err = records.readLDIF(src, name, spec)
			} else {
				err = records.read(src, name)
			}
		}
		if err != nil {
			src.Close()
			return nil, nil, err
		}
		sum := ""
		if only == nil {
			sum, err = src.Digest()
		}
		if t := src.Modified(); info.TakenAt.IsZero() || t.Before(info.TakenAt) {
			info.TakenAt = t
		}
		src.Close()
		if err != nil {
			return nil, nil, err
		}
		sums = append(sums, sum)
	}
	if scim != nil {
		if err := scim.finish(); err != nil {
			return nil, nil, err
		}
	}
	if records != nil {
		records.finish()
	}
	info.Digest = Combine(sums)
	if !spec.Named.IsZero() {
		info.TakenAt, info.Says = spec.Named, true
	}
	if spec.Taken != "" {
		if info.TakenAt, err = b.takenAt(spec); err != nil {
			return nil, nil, err
		}
		info.Says = true
	}
	info.Says = info.Says || spec.Delivered
	b.out.Unwritable = writes(spec.Encoding)
	return b.finish(spec.Paths[0].Text), info, nil
}

// Combine makes one digest of those of several files; that of one file is its
// own.
func Combine(sums []string) string {
	if len(sums) == 1 {
		return sums[0]
	}
	sum := blake3.Sum256([]byte(strings.Join(sums, "\n")))
	return "blake3:" + hex.EncodeToString(sum[:])
}

// atSpec adds to the problem of a missing export where the file is named.
func atSpec(err error, spec *Spec, pos model.Pos) error {
	if p, ok := err.(*source.Problem); ok && p.Rule == "missing-file" {
		if spec.Missing != "" {
			p.Hint = spec.Missing
			return err
		}
		p.Hint = fmt.Sprintf("it is named in %s; put the application's export there", pos)
		if strings.Contains(p.Pos.File, DatedMark) {
			p.Hint += ", with a time like 2026-11-23 or 20261123T1830 for " + DatedMark
		}
	}
	return err
}

// A FileDigest is the digest of one file of an export.
type FileDigest struct{ Path, Digest string }

// Digests returns the digest of each file of an export, reading them only as
// bytes.
func Digests(ctx context.Context, tree *source.Tree, spec *Spec) ([]FileDigest, error) {
	var out []FileDigest
	for _, path := range spec.Files() {
		src, err := tree.OpenAs(ctx, path.Text, spec.Encoding)
		if err != nil {
			return nil, atSpec(err, spec, path.Pos)
		}
		sum, err := src.Digest()
		src.Close()
		if err != nil {
			return nil, err
		}
		out = append(out, FileDigest{path.Text, sum})
	}
	return out, nil
}

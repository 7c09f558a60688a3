package connect

import (
	"context"

	"pravet/internal/core/model"
	"pravet/internal/export"
	"pravet/internal/source"
)

// ReadExport reads an application's export from the files that from names: those of the export
// itself, or others that are about to take their place.
func ReadExport(ctx context.Context, tree *source.Tree, spec, from *export.Spec, app *model.App) (*State, error) {
	accounts, info, err := export.Read(ctx, tree, from, app)
	if err != nil {
		return nil, err
	}
	var files []string
	for _, p := range spec.Files() {
		files = append(files, p.Text)
	}
	return &State{
		Accounts: accounts, Mark: info.Digest, TakenAt: info.TakenAt, Says: info.Says, Files: files,
	}, nil
}

// MarkOf is the digest of an export's files, as State has it.
func MarkOf(ctx context.Context, tree *source.Tree, spec *export.Spec) (string, error) {
	now, err := export.Digests(ctx, tree, spec)
	if err != nil {
		return "", err
	}
	var sums []string
	for _, d := range now {
		sums = append(sums, d.Digest)
	}
	return export.Combine(sums), nil
}

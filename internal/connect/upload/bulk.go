package upload

import (
	"context"
	"encoding/json"
	"fmt"

	"pravet/internal/connect/scim"
	"pravet/internal/core/plan"
	"pravet/internal/export"
)

// maxExport is how large an export may be that ids are looked up in, in bytes.
const maxExport = 1 << 30

// bulk writes a Bulk request (RFC 7644 §3.7). What is about accounts whose id the export does
// not show is left to the checklist.
func (w *writer) bulk(ctx context.Context, changes []*plan.Change) ([]byte, error) {
	files := make([][]byte, 0, len(w.Export.Paths))
	named := &export.Spec{Columns: w.Spec.Columns}
	if w.Export.Format == "scim" {
		named = w.Export
		for _, p := range w.Export.Paths {
			data, _, _, err := w.Tree.ReadAll(ctx, p.Text, maxExport)
			if err != nil {
				return nil, err
			}
			files = append(files, data)
		}
	}
	ops, covered, err := scim.Operations(w.App, named, files, changes)
	if err != nil {
		return nil, err
	}
	for _, c := range covered {
		w.covered[c] = true
	}
	text, err := json.MarshalIndent(map[string]any{
		"schemas": []string{"urn:ietf:params:scim:api:messages:2.0:BulkRequest"}, "Operations": ops,
	}, "", "  ")
	if err != nil {
		return nil, fmt.Errorf("the request cannot be written: %w", err)
	}
	return append(text, '\n'), nil
}

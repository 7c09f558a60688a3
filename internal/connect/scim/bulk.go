package scim

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"

	"pravet/internal/connect/live"
	"pravet/internal/core/plan"
)

// bulkBytes is how large a Bulk request may be where the application sets no limit.
const bulkBytes = 1 << 20

// A bulkOp is one operation of a Bulk request (RFC 7644 §3.7).
type bulkOp struct {
	Method  string `json:"method"`
	Path    string `json:"path"`
	BulkID  string `json:"bulkId,omitempty"`
	Version string `json:"version,omitempty"`
	Data    any    `json:"data,omitempty"`
}

// bulks puts messages together into as few requests as the application takes.
func (d *driver) bulks(messages []*message) (out []*live.Request) {
	most := d.can.bulkBytes
	if most <= 0 {
		most = bulkBytes
	}
	var batch []*message
	size := 0
	flush := func() {
		if len(batch) > 0 {
			out = append(out, d.bulk(batch))
		}
		batch, size = nil, 0
	}
	for _, m := range messages {
		text, err := json.Marshal(d.bulkOp(m, m.changes, 0))
		if err != nil {
			out = append(out, answered(m.changes, err))
			continue
		}
		if len(batch) == d.can.bulkOps || size+len(text)+256 > most {
			flush()
		}
		batch = append(batch, m)
		size += len(text) + 1
	}
	flush()
	return out
}

func (d *driver) bulkOp(m *message, changes []*plan.Change, n int) bulkOp {
	op := bulkOp{Method: m.method, Path: "/" + m.path, Version: m.version, Data: m.body}
	if op.Data == nil && m.method == http.MethodPatch {
		op.Data = d.members(changes)
	}
	if op.BulkID = m.bulkID; m.method == http.MethodPost && op.BulkID == "" {
		op.BulkID = "n" + strconv.Itoa(n)
	}
	return op
}

// bulk sends several messages as one request.
func (d *driver) bulk(batch []*message) *live.Request {
	r := &live.Request{}
	of := map[*plan.Change]*message{}
	for _, m := range batch {
		r.Changes = append(r.Changes, m.changes...)
		for _, c := range m.changes {
			of[c] = m
		}
	}
	r.Do = func(ctx context.Context, changes []*plan.Change) []error {
		var sent []*message
		parts := map[*message][]*plan.Change{}
		for _, c := range changes {
			m := of[c]
			if parts[m] == nil {
				sent = append(sent, m)
			}
			parts[m] = append(parts[m], c)
		}
		var ops []bulkOp
		for i, m := range sent {
			ops = append(ops, d.bulkOp(m, parts[m], i))
		}
		a, err := d.send(ctx, http.MethodPost, "Bulk", nil, "", map[string]any{
			"schemas": []string{bulkSchema}, "Operations": ops,
		})
		if err != nil {
			return live.All(changes, err)
		}
		answers, err := d.answers(a, sent)
		if err != nil {
			return live.All(changes, err)
		}
		out := make([]error, len(changes))
		for i, c := range changes {
			out[i] = answers[of[c]]
		}
		return out
	}
	return r
}

// answers finds what the application said to each message. Answers come in the order of the
// operations; one that ends early has not carried out the rest (RFC 7644 §3.7.3).
func (d *driver) answers(a *answer, sent []*message) (map[*message]error, error) {
	var res struct {
		Operations []struct {
			Status   json.RawMessage `json:"status"`
			Response json.RawMessage `json:"response"`
		} `json:"Operations"`
	}
	if err := json.Unmarshal(a.body, &res); err != nil {
		return nil, &live.Again{Says: "the answer to a Bulk request cannot be read", Sent: true}
	}
	out := map[*message]error{}
	for i, m := range sent {
		if i >= len(res.Operations) {
			out[m] = &live.Again{Says: "the application has not carried out the whole Bulk request"}
			continue
		}
		status, err := statusOf(res.Operations[i].Status)
		if err != nil {
			return nil, &live.Again{Says: "the answer to a Bulk request has a status that cannot be read", Sent: true}
		}
		part := &answer{status: status, body: res.Operations[i].Response}
		out[m] = gone(
			part,
			d.judge(part, &http.Response{Header: http.Header{"Content-Type": {mediaType}}}, true),
			m.method,
		)
	}
	return out, nil
}

// statusOf reads a status, which is a text or, of older applications, an object with a code.
func statusOf(raw json.RawMessage) (int, error) {
	var text string
	if json.Unmarshal(raw, &text) != nil {
		var o struct {
			Code json.Number `json:"code"`
		}
		var n json.Number
		if json.Unmarshal(raw, &n) == nil {
			text = n.String()
		} else if err := json.Unmarshal(raw, &o); err != nil {
			return 0, fmt.Errorf("no status: %w", err)
		} else {
			text = o.Code.String()
		}
	}
	return strconv.Atoi(text)
}

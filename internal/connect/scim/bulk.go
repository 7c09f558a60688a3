package scim

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

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
	if op.BulkID = m.bulkID; op.BulkID == "" && (n >= 0 || m.method == http.MethodPost) {
		op.BulkID = bulkID(n)
	}
	return op
}

// bulkID is by what an operation's answer is known; RFC 7644 §3.7 asks for one of those that create something.
func bulkID(n int) string { return "n" + strconv.Itoa(max(n, 0)) }

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
		if a != nil && slices.Contains([]int{
			http.StatusNotImplemented, http.StatusMethodNotAllowed, http.StatusNotFound,
		}, a.status) {
			return d.apart(ctx, changes, sent, parts)
		}
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

// apart sends messages by themselves, as the application takes no Bulk although it says so.
func (d *driver) apart(
	ctx context.Context, changes []*plan.Change, sent []*message, parts map[*message][]*plan.Change,
) []error {
	d.learn(func(l *learned) { l.noBulk = true })
	became := map[*plan.Change]error{}
	for _, m := range sent {
		for i, err := range d.carry(ctx, m, parts[m]) {
			became[parts[m][i]] = err
		}
	}
	out := make([]error, len(changes))
	for i, c := range changes {
		out[i] = became[c]
	}
	return out
}

// answers finds what the application said to each message: by its bulkId, else by its method and location and, where an
// answer has neither, by its place. Not carried out is what has no answer (RFC 7644 §3.7.3).
func (d *driver) answers(a *answer, sent []*message) (map[*message]error, error) {
	var res struct {
		Operations []struct {
			Method   string          `json:"method"`
			BulkID   string          `json:"bulkId"`
			Location string          `json:"location"`
			Status   json.RawMessage `json:"status"`
			Response json.RawMessage `json:"response"`
		} `json:"Operations"`
	}
	if err := json.Unmarshal(a.body, &res); err != nil {
		return nil, &live.Again{Says: "the answer to a Bulk request cannot be read", Sent: true}
	}
	at := make([]int, len(sent)) // which answer is to which message, plus one
	for k := range res.Operations {
		op, of := &res.Operations[k], -1
		for i, m := range sent {
			if op.BulkID == bulkID(i) || op.BulkID == "" && op.Location != "" && strings.EqualFold(op.Method, m.method) &&
				m.method != http.MethodPost && strings.HasSuffix(op.Location, "/"+m.path) {
				of = i
				break
			}
		}
		if of < 0 && op.BulkID == "" && k < len(sent) {
			of = k
		}
		if of >= 0 && at[of] == 0 {
			at[of] = k + 1
		}
	}
	out := map[*message]error{}
	for n, m := range sent {
		i := at[n] - 1
		if i < 0 {
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
		if out[m] == nil {
			d.created(m)
		}
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

package standin

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/scim2/filter-parser/v2"
)

// patch changes a resource as a PATCH asks (RFC 7644 §3.5.2).
func (s *Server) patch(r resource, sent map[string]any) (answer, bool) {
	ops, _ := sent["Operations"].([]any)
	if len(ops) == 0 {
		return refuse(http.StatusBadRequest, "invalidSyntax", "there are no operations"), false
	}
	for _, x := range ops {
		op, _ := x.(map[string]any)
		verb := strings.ToLower(fmt.Sprint(op["op"]))
		text, _ := op["path"].(string)
		if verb != "add" && verb != "replace" && verb != "remove" {
			return refuse(http.StatusBadRequest, "invalidSyntax", "there is no such operation"), false
		}
		if text == "" {
			values, ok := op["value"].(map[string]any)
			if !ok {
				return refuse(http.StatusBadRequest, "noTarget", "there is no path"), false
			}
			for k, v := range values {
				r[k] = v
			}
			continue
		}
		path, err := filter.ParsePath([]byte(text))
		if err != nil {
			return refuse(http.StatusBadRequest, "invalidPath", "the path cannot be read"), false
		}
		apply(r, verb, &path, op["value"])
	}
	return answer{}, true
}

func apply(r resource, verb string, path *filter.Path, v any) {
	at := r
	if urn := path.AttributePath.URI(); urn != "" && !strings.Contains(urn, ":core:2.0:") {
		inner, ok := at[urn].(map[string]any)
		if !ok {
			inner = map[string]any{}
			at[urn] = inner
		}
		at = inner
	}
	name := find(at, path.AttributePath.AttributeName)
	sub := path.AttributePath.SubAttributeName()
	if path.ValueExpression != nil {
		entries, _ := at[name].([]any)
		keep := entries[:0:0]
		for _, e := range entries {
			o, _ := e.(map[string]any)
			ok, err := matches(path.ValueExpression, o)
			switch {
			case err != nil || !ok:
				keep = append(keep, e)
			case verb == "remove" && path.SubAttributeName() == "":
			case path.SubAttributeName() != "":
				o[path.SubAttributeName()] = v
				keep = append(keep, o)
			default:
				keep = append(keep, v)
			}
		}
		at[name] = keep
		return
	}
	if sub != "" {
		inner, ok := at[name].(map[string]any)
		if !ok {
			inner = map[string]any{}
			at[name] = inner
		}
		at, name = inner, find(inner, sub)
	}
	entries, isList := at[name].([]any)
	more, manyMore := v.([]any)
	switch {
	case verb == "remove":
		delete(at, name)
	case verb == "add" && (isList || at[name] == nil && manyMore):
		if !manyMore {
			more = []any{v}
		}
		entries = slices.Clone(entries)
		for _, x := range more {
			if !has(entries, x) {
				entries = append(entries, x)
			}
		}
		at[name] = entries
	default:
		at[name] = v
	}
}

// find is the name of a member, whatever its case.
func find(o map[string]any, name string) string {
	for k := range o {
		if strings.EqualFold(k, name) {
			return k
		}
	}
	return name
}

var errFilter = errors.New("this filter is not understood")

// parseFilter makes a filter a function.
func parseFilter(text string) (func(resource) bool, error) {
	e, err := filter.ParseFilter([]byte(text))
	if err != nil {
		return nil, err
	}
	if wanted, name, ok := names(e); ok { // one of many names: a look-up, and not a walk for each
		return func(r resource) bool {
			text, _ := r[name].(string)
			return wanted[strings.ToLower(text)]
		}, nil
	}
	if _, err := matches(e, resource{}); err != nil {
		return nil, err
	}
	return func(r resource) bool {
		ok, err := matches(e, r)
		return err == nil && ok
	}, nil
}

// names are those of a filter that asks for one of several user names.
func names(e filter.Expression) (wanted map[string]bool, attr string, ok bool) {
	switch x := e.(type) {
	case *filter.AttributeExpression:
		text, isText := unescaped(x.CompareValue).(string)
		if x.Operator != filter.EQ || !isText || !strings.EqualFold(x.AttributePath.String(), "userName") {
			return nil, "", false
		}
		return map[string]bool{strings.ToLower(text): true}, "userName", true
	case *filter.LogicalExpression:
		if x.Operator != filter.OR {
			return nil, "", false
		}
		a, attr, ok := names(x.Left)
		if !ok {
			return nil, "", false
		}
		b, _, ok := names(x.Right)
		if !ok {
			return nil, "", false
		}
		if len(a) < len(b) {
			a, b = b, a
		}
		for k := range b {
			a[k] = true
		}
		return a, attr, true
	}
	return nil, "", false
}

// matches evaluates a filter.
func matches(e filter.Expression, r resource) (bool, error) {
	switch x := e.(type) {
	case *filter.LogicalExpression:
		a, err := matches(x.Left, r)
		if err != nil {
			return false, err
		}
		b, err := matches(x.Right, r)
		if x.Operator == filter.AND {
			return a && b, err
		}
		return a || b, err
	case *filter.NotExpression:
		ok, err := matches(x.Expression, r)
		return !ok, err
	case *filter.AttributeExpression:
		return compare(x, r)
	}
	return false, errFilter
}

func compare(x *filter.AttributeExpression, r resource) (bool, error) {
	var values []any
	v := r[find(r, x.AttributePath.AttributeName)]
	if sub := x.AttributePath.SubAttributeName(); sub != "" || isMany(v) {
		if sub == "" {
			sub = "value"
		}
		list, ok := v.([]any)
		if !ok {
			list = []any{v}
		}
		for _, e := range list {
			if o, ok := e.(map[string]any); ok {
				values = append(values, o[find(o, sub)])
			}
		}
	} else if v != nil {
		values = []any{v}
	}
	if x.Operator == filter.PR {
		return len(values) > 0, nil
	}
	want := strings.ToLower(fmt.Sprint(unescaped(x.CompareValue)))
	for _, v := range values {
		is := strings.ToLower(fmt.Sprint(v))
		switch x.Operator {
		case filter.EQ:
			if is == want {
				return true, nil
			}
		case filter.CO:
			if strings.Contains(is, want) {
				return true, nil
			}
		case filter.SW:
			if strings.HasPrefix(is, want) {
				return true, nil
			}
		default:
			return false, errFilter
		}
	}
	if x.Operator != filter.EQ && x.Operator != filter.CO && x.Operator != filter.SW {
		return false, errFilter
	}
	return false, nil
}

// unescaped is a value of a filter, whose texts are those of JSON: the parser leaves the
// escapes in them.
func unescaped(v any) any {
	text, ok := v.(string)
	if !ok || !strings.Contains(text, `\`) {
		return v
	}
	var out string
	if json.Unmarshal([]byte(`"`+text+`"`), &out) != nil {
		return v
	}
	return out
}

func isMany(v any) bool {
	_, ok := v.([]any)
	return ok
}

// Package scim reaches applications by SCIM 2.0 over HTTP (RFC 7643, RFC 7644, RFC 9865).
// What the application says of itself decides what is used: PATCH or PUT, Bulk, filters,
// paging by index or by cursor, versions.
package scim

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/oauth2"
	"golang.org/x/oauth2/clientcredentials"

	"pravet/internal/connect"
	"pravet/internal/connect/live"
)

// maxAnswer is how long an answer may be, in bytes.
const maxAnswer = 64 << 20

// maxHeader is how long the headers of an answer may be together, in bytes.
const maxHeader = 1 << 20

// mediaType is that of all messages (RFC 7644 §8.1).
const mediaType = "application/scim+json"

// A client sends requests to one application.
type client struct {
	base *url.URL
	http *http.Client
	spec *connect.Spec
	read func(ctx context.Context, ref string) (string, error) // a secret
	keep func(secret string)

	mu    sync.Mutex
	token oauth2.TokenSource
}

// An answer is what an application answered.
type answer struct {
	status  int
	version string // the ETag
	at      string // the Location
	body    []byte
}

func newClient(
	spec *connect.Spec, roots *x509.CertPool, read func(ctx context.Context, ref string) (string, error),
	keep func(secret string),
) (*client, error) {
	base, err := url.Parse(strings.TrimSuffix(spec.URL, "/"))
	if err != nil {
		return nil, errors.New("the address under url cannot be read")
	}
	c := &client{base: base, spec: spec, read: read, keep: keep}
	c.http = &http.Client{
		Transport: &http.Transport{
			TLSClientConfig:        &tls.Config{RootCAs: roots, MinVersion: tls.VersionTLS12},
			MaxResponseHeaderBytes: maxHeader, MaxIdleConnsPerHost: spec.Parallel, Proxy: http.ProxyFromEnvironment, ForceAttemptHTTP2: true,
		},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	return c, nil
}

// bearer is the token for the next request. With anew, one that was given before is not
// taken again.
func (c *client) bearer(ctx context.Context, anew bool) (string, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.token == nil || anew {
		source, err := c.source(ctx)
		if err != nil {
			return "", err
		}
		c.token = source
	}
	t, err := c.token.Token()
	var refused *oauth2.RetrieveError
	switch {
	case errors.As(err, &refused):
		return "", &connect.Fault{
			Kind: connect.Refused,
			Says: fmt.Sprintf(
				"%s gives no token: status %d %s",
				c.spec.Client.At,
				refused.Response.StatusCode,
				refused.ErrorCode,
			),
		}
	case err != nil:
		return "", &live.Again{Says: "no token could be had: " + bare(err)}
	}
	c.keep(t.AccessToken)
	return t.AccessToken, nil
}

func (c *client) source(ctx context.Context) (oauth2.TokenSource, error) {
	if c.spec.Client == nil {
		token, err := c.read(ctx, c.spec.Token)
		if err != nil {
			return nil, err
		}
		return oauth2.StaticTokenSource(&oauth2.Token{AccessToken: token}), nil
	}
	secret, err := c.read(ctx, c.spec.Client.Secret)
	if err != nil {
		return nil, err
	}
	o := clientcredentials.Config{
		ClientID: c.spec.Client.ID, ClientSecret: secret, TokenURL: c.spec.Client.At, Scopes: c.spec.Client.Scopes,
	}
	within := context.WithValue(context.WithoutCancel(ctx), oauth2.HTTPClient, &http.Client{
		Transport: c.http.Transport, CheckRedirect: c.http.CheckRedirect, Timeout: c.spec.Timeout,
	})
	return o.TokenSource(within), nil
}

// send sends one request and returns the answer, if it is one of success. An error is a
// *connect.Fault or a *live.Again.
func (c *client) send(
	ctx context.Context, method, path string, query url.Values, version string, body any,
) (*answer, error) {
	a, err := c.once(ctx, method, path, query, version, body, false)
	var f *connect.Fault
	if errors.As(err, &f) && a != nil && a.status == http.StatusUnauthorized {
		// The token may have expired, and another may be had by now.
		a, err = c.once(ctx, method, path, query, version, body, true)
	}
	return a, err
}

func (c *client) once(
	ctx context.Context, method, path string, query url.Values, version string, body any, anew bool,
) (*answer, error) {
	token, err := c.bearer(ctx, anew)
	if err != nil {
		return nil, err
	}
	var text []byte
	if body != nil {
		if text, err = json.Marshal(body); err != nil {
			return nil, err
		}
	}
	at := c.base.JoinPath(path)
	at.RawQuery = query.Encode()
	req, err := http.NewRequestWithContext(ctx, method, at.String(), bytes.NewReader(text))
	if err != nil {
		return nil, err
	}
	req.Header.Set("Authorization", "Bearer "+token)
	req.Header.Set("Accept", mediaType+", application/json;q=0.9")
	if body != nil {
		req.Header.Set("Content-Type", mediaType)
	}
	if version != "" {
		req.Header.Set("If-Match", version)
	}
	writes := method != http.MethodGet
	res, err := c.http.Do(req)
	if err != nil {
		return nil, unanswered(err, writes)
	}
	defer res.Body.Close()
	data, err := io.ReadAll(io.LimitReader(res.Body, maxAnswer+1))
	if len(data) > maxAnswer {
		return nil, &connect.Fault{Kind: connect.Failed, Says: "the answer is longer than 64 MiB; set a smaller page"}
	}
	if err != nil {
		return nil, &live.Again{Says: "the answer broke off: " + bare(err), Sent: writes}
	}
	a := &answer{status: res.StatusCode, version: res.Header.Get("ETag"), at: res.Header.Get("Location"), body: data}
	return a, c.judge(a, res, writes)
}

// judge tells what a status means (RFC 7644 §3.12).
func (c *client) judge(a *answer, res *http.Response, writes bool) error {
	switch {
	case a.status >= 200 && a.status < 300:
		if len(a.body) > 0 && a.status != http.StatusNoContent && !isJSON(res) {
			return &connect.Fault{Kind: connect.Failed, Says: fmt.Sprintf(
				"the answer is %s and no SCIM; is the address under url right?", kindOf(res),
			)}
		}
		return nil
	case a.status >= 300 && a.status < 400:
		to := "elsewhere"
		if u, err := res.Location(); err == nil {
			to = "to " + u.Scheme + "://" + u.Host + u.Path
		}
		return &connect.Fault{Kind: connect.Failed, Says: fmt.Sprintf(
			"the application sends us %s, and the token goes nowhere but where url says; correct url", to,
		)}
	case a.status == http.StatusTooManyRequests:
		return &live.Again{
			Says: "the application takes no more requests for now (429)", After: after(res), Down: true, Over: true,
		}
	case a.status == http.StatusServiceUnavailable:
		return &live.Again{Says: "the application is not available (503)", After: after(res), Down: true}
	case a.status >= 500:
		return &live.Again{Says: "the application failed: " + said(a), After: after(res), Sent: writes}
	case a.status == http.StatusUnauthorized:
		return &connect.Fault{Kind: connect.Refused, Says: "the application does not accept the token (401)"}
	case a.status == http.StatusForbidden:
		return &connect.Fault{Kind: connect.Refused, Says: "this caller may not do that: " + said(a)}
	case a.status == http.StatusPreconditionFailed:
		return &connect.Fault{
			Kind: connect.Conflict, Says: "somebody else has changed it just now (412); nothing was overwritten",
		}
	}
	return &connect.Fault{Kind: connect.Refused, Says: "the application refused it: " + said(a)}
}

// unanswered is the error of a request without an answer.
func unanswered(err error, writes bool) error {
	var cert *tls.CertificateVerificationError
	var dns *net.DNSError
	var op *net.OpError
	switch {
	case errors.As(err, &cert):
		return &connect.Fault{Kind: connect.Failed, Says: "the application's certificate is not accepted: " +
			cert.Err.Error() + "; name its authority's file under ca, if you trust it"}
	case errors.As(err, &dns) && dns.IsNotFound:
		return &connect.Fault{Kind: connect.Failed, Says: "there is no host " + dns.Name + "; correct url"}
	case errors.As(err, &op) && op.Op == "dial":
		return &live.Again{Says: "the application cannot be reached: " + bare(err), Down: true, Away: true}
	case errors.Is(err, context.DeadlineExceeded):
		return &live.Again{Says: "the application gave no answer in time", Sent: writes}
	}
	return &live.Again{Says: "the connection broke off: " + bare(err), Sent: writes}
}

// bare is an error without the address of the request, which may be long and tells nothing.
func bare(err error) string {
	var u *url.Error
	if errors.As(err, &u) {
		err = u.Err
	}
	return err.Error()
}

// after is the pause that an application asks for (RFC 9110 §10.2.3).
func after(res *http.Response) time.Duration {
	text := res.Header.Get("Retry-After")
	if n, err := strconv.ParseFloat(text, 64); err == nil && n >= 0 {
		return live.Pause(n)
	}
	if at, err := http.ParseTime(text); err == nil {
		return live.Pause(time.Until(at).Seconds())
	}
	return 0
}

// said is what an application says of an error (RFC 7644 §3.12).
func said(a *answer) string {
	var e struct {
		Detail string `json:"detail"`
		Type   string `json:"scimType"`
	}
	text := fmt.Sprintf("status %d", a.status)
	if json.Unmarshal(a.body, &e) != nil {
		return text
	}
	for _, part := range []string{e.Type, e.Detail} {
		if part != "" {
			text += ", " + part
		}
	}
	return text
}

func kindOf(res *http.Response) string {
	kind, _, err := mime.ParseMediaType(res.Header.Get("Content-Type"))
	if err != nil || kind == "" {
		return "of no known kind"
	}
	return kind
}

func isJSON(res *http.Response) bool {
	kind := kindOf(res)
	return kind == mediaType || kind == "application/json" || strings.HasSuffix(kind, "+json")
}

package delivery

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"github.com/hashicorp/go-retryablehttp"

	"pravet/internal/core/letter"
)

// The headers of a letter to a web address: its id, which is the same each time that it is
// tried, and the HMAC-SHA256 (RFC 2104) of the body by the secret, in hexadecimal.
const (
	HeaderID        = "Pravet-Letter"
	HeaderSignature = "Pravet-Signature"
)

// A Webhook is a web address that takes letters as JSON.
type Webhook struct {
	URL    string
	Secret string // by which the body is signed
	Token  string // goes along as Authorization: Bearer; "" for none
	Client *http.Client
	Tries  int           // 0 for the usual
	Wait   time.Duration // before the second try; 0 for the usual
}

// How often a letter is tried, how long is waited before the second try, and how much of
// an answer is read.
const (
	maxTries  = 4
	firstWait = time.Second
	maxAnswer = 64 << 10
)

// Host is whose address it is. The rest of it may be a secret.
func (w *Webhook) Host() string {
	u, err := url.Parse(w.URL)
	if err != nil {
		return ""
	}
	return u.Host
}

// webhook begins the name of each.
const webhook = "webhook "

// Name says which it is.
func (w *Webhook) Name() string { return webhook + w.Host() }

// Ready has nothing to do: what is posted is made when it is sent.
func (w *Webhook) Ready(l *letter.Letter, at time.Time) (func(context.Context) error, func(), error) {
	return notReady(w.Send, l, at)
}

// Send posts a letter, and tries again where the server is busy or out of order, for no longer than a minute in all.
// Whether it arrived is unknown where a try broke off after the connection was made, and none had an answer.
func (w *Webhook) Send(ctx context.Context, l *letter.Letter, at time.Time) error {
	body, err := json.Marshal(struct {
		*letter.Letter
		At string `json:"at"`
	}{l, at.UTC().Format(time.RFC3339)})
	if err != nil {
		return &Refused{err}
	}
	ctx, stop := context.WithTimeout(ctx, longest)
	defer stop()
	req, err := retryablehttp.NewRequestWithContext(ctx, http.MethodPost, w.URL, body)
	if err != nil {
		return &Refused{errors.New(w.Name() + ": the address cannot be used")}
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set(HeaderID, l.ID)
	req.Header.Set(HeaderSignature, Sign(w.Secret, body))
	if w.Token != "" {
		req.Header.Set("Authorization", "Bearer "+w.Token)
	}
	t := &tries{}
	answer, err := w.client(t).Do(req)
	switch {
	case err == nil:
	case t.unsure:
		return fmt.Errorf("%s gave no answer: %w", w.Name(), bare(err))
	default:
		return &Refused{fmt.Errorf("%s: %w", w.Name(), bare(err))}
	}
	defer answer.Body.Close()
	_, _ = io.Copy(io.Discard, io.LimitReader(answer.Body, maxAnswer)) // the status says it all
	switch says := fmt.Errorf("%s answered %s", w.Name(), answer.Status); {
	case answer.StatusCode/100 == 2:
		return nil
	case answer.StatusCode/100 == 3:
		return &Refused{fmt.Errorf("%w, and letters are not sent on to another address; correct webhook", says)}
	case t.asks > longest:
		return &Refused{fmt.Errorf("%w, and asks to wait for %s", says, t.asks)}
	case t.unsure:
		return fmt.Errorf("%w, and a try before it had no answer", says)
	default:
		return &Refused{says}
	}
}

// bare is an error without the address.
func bare(err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		err = u.Err
	}
	if errors.Is(err, context.DeadlineExceeded) {
		return errors.New("it took too long")
	}
	return err
}

// tries is what is known of the tries of one letter.
type tries struct {
	unsure bool          // one may have arrived
	asks   time.Duration // how long the server asks to wait
}

// again decides whether a letter is tried once more. No connection was made, or none that is to be trusted: it
// certainly did not arrive.
func (t *tries) again(ctx context.Context, answer *http.Response, err error) (bool, error) {
	if err != nil {
		var op *net.OpError
		var cert *tls.CertificateVerificationError
		var dns *net.DNSError
		certain := errors.As(err, &cert) || errors.As(err, &dns) || errors.As(err, &op) && op.Op == "dial"
		t.unsure = t.unsure || !certain
		if ctx.Err() != nil {
			return false, ctx.Err()
		}
		return !errors.As(err, &cert), nil
	}
	if t.asks = 0; answer.StatusCode == http.StatusTooManyRequests || answer.StatusCode == http.StatusServiceUnavailable {
		t.asks = asked(answer)
	}
	return ctx.Err() == nil && t.asks <= longest &&
		(answer.StatusCode == http.StatusTooManyRequests || answer.StatusCode >= 500), ctx.Err()
}

// asked is how long a server asks to wait (RFC 9110, section 10.2.3).
func asked(answer *http.Response) time.Duration {
	text := answer.Header.Get("Retry-After")
	if n, err := strconv.ParseInt(text, 10, 64); err == nil && n > 0 {
		return time.Duration(min(n, int64(forever/time.Second))) * time.Second
	}
	if at, err := http.ParseTime(text); err == nil {
		return min(max(time.Until(at), 0), forever)
	}
	return 0
}

// forever is longer than anybody waits.
const forever = 365 * 24 * time.Hour

func (w *Webhook) client(t *tries) *retryablehttp.Client {
	c := retryablehttp.NewClient()
	c.Logger = nil
	c.RetryMax, c.RetryWaitMin, c.RetryWaitMax = maxTries-1, firstWait, 10*firstWait
	if w.Tries > 0 {
		c.RetryMax = w.Tries - 1
	}
	if w.Wait > 0 {
		c.RetryWaitMin, c.RetryWaitMax = w.Wait, 10*w.Wait
	}
	c.CheckRetry = t.again
	c.Backoff = func(least, most time.Duration, n int, answer *http.Response) time.Duration {
		return max(t.asks, retryablehttp.DefaultBackoff(least, most, n, nil))
	}
	c.ErrorHandler = retryablehttp.PassthroughErrorHandler
	if w.Client != nil {
		c.HTTPClient = w.Client
	}
	c.HTTPClient.Timeout = patience
	c.HTTPClient.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	return c
}

// Sign is the signature of a body by a secret.
func Sign(secret string, body []byte) string {
	h := hmac.New(sha256.New, []byte(secret))
	_, _ = h.Write(body) // a hash never fails
	return hex.EncodeToString(h.Sum(nil))
}

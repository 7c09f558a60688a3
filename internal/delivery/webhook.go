package delivery

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
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
	Client *http.Client
	Tries  int           // 0 for the usual
	Wait   time.Duration // before the second try; 0 for the usual
}

// How often a letter is tried, how long is waited before the second try, and how much of
// an answer is read.
const (
	tries     = 4
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

// Name says which it is.
func (w *Webhook) Name() string { return "webhook " + w.Host() }

// Send posts a letter, and tries again where the server is busy or out of order. Whether
// it arrived is unknown where no try had an answer.
func (w *Webhook) Send(ctx context.Context, l *letter.Letter, at time.Time) error {
	body, err := json.Marshal(struct {
		*letter.Letter
		At string `json:"at"`
	}{l, at.UTC().Format(time.RFC3339)})
	if err != nil {
		return &Refused{err}
	}
	req, err := retryablehttp.NewRequestWithContext(ctx, http.MethodPost, w.URL, body)
	if err != nil {
		return &Refused{errors.New(w.Name() + ": the address cannot be used")}
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set(HeaderID, l.ID)
	req.Header.Set(HeaderSignature, Sign(w.Secret, body))
	answer, err := w.client().Do(req)
	if err != nil {
		var u *url.Error
		if errors.As(err, &u) {
			err = u.Err // without the address
		}
		return fmt.Errorf("%s gave no answer: %w", w.Name(), err)
	}
	defer answer.Body.Close()
	_, _ = io.Copy(io.Discard, io.LimitReader(answer.Body, maxAnswer)) // the status says it all
	if answer.StatusCode/100 != 2 {
		return &Refused{fmt.Errorf("%s answered %s", w.Name(), answer.Status)}
	}
	return nil
}

func (w *Webhook) client() *retryablehttp.Client {
	c := retryablehttp.NewClient()
	c.Logger = nil
	c.RetryMax, c.RetryWaitMin, c.RetryWaitMax = tries-1, firstWait, 10*firstWait
	if w.Tries > 0 {
		c.RetryMax = w.Tries - 1
	}
	if w.Wait > 0 {
		c.RetryWaitMin, c.RetryWaitMax = w.Wait, 10*w.Wait
	}
	c.ErrorHandler = retryablehttp.PassthroughErrorHandler
	if w.Client != nil {
		c.HTTPClient = w.Client
	}
	c.HTTPClient.Timeout = patience
	c.HTTPClient.CheckRedirect = func(*http.Request, []*http.Request) error {
		return errors.New("it sends on to another address, and letters are not sent on")
	}
	return c
}

// Sign is the signature of a body by a secret.
func Sign(secret string, body []byte) string {
	h := hmac.New(sha256.New, []byte(secret))
	_, _ = h.Write(body) // a hash never fails
	return hex.EncodeToString(h.Sum(nil))
}

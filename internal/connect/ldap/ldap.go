// Package ldap reaches directory servers by LDAP version 3 (RFC 4511), over TLS alone. People
// are entries of one branch, groups and roles those of others that list their members. What
// differs is changed, and only where nobody else has changed the entry meanwhile, where the
// server can tell (RFC 4528).
package ldap

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"sync"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/go-ldap/ldap/v3"

	"pravet/internal/connect"
	"pravet/internal/connect/live"
	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/export"
)

// assertion is the control by which a change is made only where an entry is as it was
// (RFC 4528).
const assertion = "1.3.6.1.1.12"

// version is the operational attribute that changes with every change of an entry, where a
// server has one.
const version = "entryCSN"

// maxPacket is the longest message that is read from a server, in bytes.
const maxPacket = 64 << 20

func init() { ber.MaxPacketLengthBytes = maxPacket } // of all connections, and there are no others

// driver speaks LDAP to one server.
type driver struct {
	app    *model.App
	spec   *connect.Spec
	at     *export.Directory
	tls    *tls.Config
	user   string
	secret func(ctx context.Context, ref string) (string, error)
	ask    func(ctx context.Context, f func(context.Context) error) error
	first  func(account string) (string, error)
	key    func(account string) (string, error)
	zone   day.Zone

	mu      sync.Mutex
	conn    *ldap.Conn
	policy  bool              // it knows passwords that must be changed
	asserts bool              // the server compares before it writes
	entries map[string]*entry // accounts as they were read last
	groups  map[string]*list  // "group crew" → how it was read last
	byDN    map[string]*list
}

// An entry is an account as it was read last.
type entry struct {
	dn, version string
	uid         string
	lists       []*list // groups and roles that list it
}

// Open connects and signs in.
func Open(ctx context.Context, o live.Options) (live.Driver, error) {
	u, err := url.Parse(o.Spec.URL)
	if err != nil {
		return nil, errors.New("the address under url cannot be read")
	}
	d := &driver{
		app: o.App, spec: o.Spec, at: directory(o.Spec), user: o.Spec.User, secret: o.Secret,
		ask: o.Ask, first: o.First, key: o.Key, zone: o.Zone,
		tls:     &tls.Config{RootCAs: o.Roots, ServerName: u.Hostname(), MinVersion: tls.VersionTLS12},
		entries: map[string]*entry{},
	}
	err = o.Ask(ctx, func(ctx context.Context) error {
		_, err := d.connection(ctx)
		return err
	})
	if err != nil {
		return nil, err
	}
	return d, nil
}

// connection is the one that is open, or a new one.
func (d *driver) connection(ctx context.Context) (*ldap.Conn, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.conn != nil && !d.conn.IsClosing() {
		return d.conn, nil
	}
	password, err := d.secret(ctx, d.spec.Password)
	if err != nil {
		return nil, err
	}
	conn, err := d.dial()
	if err != nil {
		return nil, err
	}
	if err := conn.Bind(d.user, password); err != nil {
		conn.Close()
		if ldap.IsErrorAnyOf(err, ldap.LDAPResultInvalidCredentials, ldap.LDAPResultInvalidDNSyntax) {
			return nil, &connect.Fault{
				Kind: connect.Refused,
				Says: "the directory does not accept the user or the password",
			}
		}
		return nil, judge(err, false)
	}
	root, err := conn.Search(ldap.NewSearchRequest(
		"",
		ldap.ScopeBaseObject,
		ldap.NeverDerefAliases,
		0,
		0,
		false,
		"(objectClass=*)",
		[]string{"supportedControl"},
		nil,
	))
	if err == nil && len(root.Entries) > 0 {
		controls := root.Entries[0].GetAttributeValues("supportedControl")
		d.asserts, d.policy = slices.Contains(
			controls,
			assertion,
		), slices.Contains(controls, ldap.ControlTypeBeheraPasswordPolicy)
	}
	d.conn = conn
	return conn, nil
}

// dial connects, over TLS.
func (d *driver) dial() (*ldap.Conn, error) {
	conn, err := ldap.DialURL(d.spec.URL, ldap.DialWithTLSConfig(d.tls))
	if err != nil {
		return nil, unreachable(err)
	}
	conn.SetTimeout(d.spec.Timeout)
	if strings.HasPrefix(d.spec.URL, "ldap://") {
		if err := conn.StartTLS(d.tls); err != nil {
			conn.Close()
			return nil, unreachable(err)
		}
	}
	return conn, nil
}

// SignsIn binds as an account, on a connection of its own. It implements connect.Signs.
func (d *driver) SignsIn(_ context.Context, account, password string) (yes, known bool) {
	d.mu.Lock()
	x := d.entries[account]
	d.mu.Unlock()
	if x == nil || password == "" {
		return false, false
	}
	conn, err := d.dial()
	if err != nil {
		return false, false
	}
	defer conn.Close()
	err = conn.Bind(x.dn, password)
	return err == nil, err == nil || ldap.IsErrorWithCode(err, ldap.LDAPResultInvalidCredentials)
}

// unreachable is the error of a connection that was not made.
func unreachable(err error) error {
	var cert *tls.CertificateVerificationError
	says := ""
	if errors.As(err, &cert) {
		says = cert.Err.Error()
	} else if _, after, ok := strings.Cut(err.Error(), "failed to verify certificate: "); ok {
		says = strings.TrimSuffix(after, ")") // StartTLS keeps no more of it than its text
	}
	if says != "" {
		return &connect.Fault{Kind: connect.Failed, Says: "the directory's certificate is not accepted: " +
			says + "; name its authority's file under ca, if you trust it"}
	}
	return &live.Again{Says: "the directory cannot be reached: " + plain(err), Down: true, Away: true}
}

// judge tells what a result means (RFC 4511 appendix A); writes reports whether the request
// may have changed something.
func judge(err error, writes bool) error {
	var e *ldap.Error
	var fault *connect.Fault
	var again *live.Again
	if err == nil {
		return nil
	}
	text := plain(err)
	switch {
	case errors.As(err, &fault), errors.As(err, &again), errors.Is(err, context.Canceled):
		return err
	case !errors.As(err, &e): // the server went away in the middle of an answer
		return &live.Again{Says: "the connection broke off: " + text, Sent: writes}
	}
	switch e.ResultCode {
	case ldap.ErrorNetwork, ldap.ErrorUnexpectedResponse, ldap.LDAPResultServerDown, ldap.LDAPResultTimeout:
		return &live.Again{Says: "the connection broke off: " + text, Sent: writes}
	case ldap.LDAPResultSizeLimitExceeded, ldap.LDAPResultTimeLimitExceeded, ldap.LDAPResultAdminLimitExceeded:
		return &connect.Fault{Kind: connect.Failed, Says: "the directory gives this user no more at a time: " + text +
			"; raise its limits for this user, or set page"}
	case ldap.LDAPResultBusy, ldap.LDAPResultUnavailable:
		return &live.Again{Says: "the directory is busy: " + text, Down: true}
	case ldap.LDAPResultInsufficientAccessRights:
		return &connect.Fault{Kind: connect.Refused, Says: "this caller may not do that: " + text}
	case ldap.LDAPResultAssertionFailed:
		return &connect.Fault{
			Kind: connect.Conflict, Says: "somebody else has changed the entry just now; nothing was overwritten",
		}
	case ldap.LDAPResultNoSuchObject:
		return &connect.Fault{Kind: connect.Conflict, Says: "the entry is not there any more"}
	}
	return &connect.Fault{Kind: connect.Refused, Says: "the directory refused it: " + text}
}

// plain is what an error says, without the library's own words around it.
func plain(err error) string {
	var e *ldap.Error
	if errors.As(err, &e) {
		text := ldap.LDAPResultCodeMap[e.ResultCode]
		if e.Err != nil && e.Err.Error() != "" {
			text = strings.TrimPrefix(text+": "+e.Err.Error(), ": ")
		}
		return text
	}
	return err.Error()
}

// Close ends the connection.
func (d *driver) Close() error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.conn == nil {
		return nil
	}
	return d.conn.Close()
}

// Guards: the server compares entries before it writes.
func (d *driver) Guards() bool { return d.asserts }

// Check looks at each branch. Whether a caller may write is nothing that LDAP can be asked.
func (d *driver) Check(ctx context.Context) ([]connect.Ability, error) {
	var out []connect.Ability
	for _, x := range []struct{ what, base string }{
		{"read people", d.at.People}, {"read groups", d.at.Groups}, {"read roles", d.at.Roles},
		{"read those away", d.at.Away},
	} {
		if x.base == "" {
			continue
		}
		some, err := d.anything(ctx, x.base)
		says := "nothing under " + x.base
		if some {
			says = "entries under " + x.base
		}
		if err != nil {
			says = err.Error()
		}
		out = append(out, connect.Ability{What: x.what, May: err == nil, Says: says})
	}
	says := "only what nobody has changed meanwhile (RFC 4528)"
	if !d.asserts {
		says = "entries are compared before they are changed"
	}
	return append(out,
		connect.Ability{What: "change", May: true, Says: says},
		connect.Ability{
			What: "rights to change", Spare: true,
			Says: "a directory cannot be asked for them; carry out one change first, with apply --only",
		},
	), nil
}

// Identity is the UUID of the branch of accounts (RFC 4530). It implements connect.Known.
func (d *driver) Identity(ctx context.Context) (id string) {
	err := d.ask(ctx, func(ctx context.Context) error {
		conn, err := d.connection(ctx)
		if err != nil {
			return err
		}
		res, err := conn.Search(ldap.NewSearchRequest(
			d.at.People, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1, int(d.spec.Timeout.Seconds()), false,
			"(objectClass=*)", []string{"entryUUID"}, nil,
		))
		if err == nil && len(res.Entries) > 0 {
			id = res.Entries[0].GetEqualFoldAttributeValue("entryUUID")
		}
		return judge(err, false)
	})
	if err != nil {
		return "" // whoever reads it is told
	}
	return id
}

// anything reports whether there is an entry below a base; no more than one is asked for.
func (d *driver) anything(ctx context.Context, base string) (some bool, _ error) {
	err := d.ask(ctx, func(ctx context.Context) error {
		conn, err := d.connection(ctx)
		if err != nil {
			return err
		}
		res, err := conn.Search(ldap.NewSearchRequest(
			base, ldap.ScopeSingleLevel, ldap.NeverDerefAliases, 1, int(d.spec.Timeout.Seconds()), false,
			"(objectClass=*)", []string{"1.1"}, nil,
		))
		if ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject) {
			return wrong("there is no branch %s in the directory", base)
		}
		if some = res != nil && len(res.Entries) > 0; some && ldap.IsErrorWithCode(err, ldap.LDAPResultSizeLimitExceeded) {
			return nil
		}
		return judge(err, false)
	})
	return some, err
}

// attribute is the name of an attribute in the directory.
func (d *driver) attribute(attr string) string { return d.at.Attribute(d.spec.Columns, attr) }

func wrong(format string, args ...any) error {
	return &connect.Fault{Kind: connect.Failed, Says: fmt.Sprintf(format, args...)}
}

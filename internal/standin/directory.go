package standin

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// A Directory is a slapd that runs.
type Directory struct {
	URL      string // ldap://, to which StartTLS is spoken
	Secure   string // ldaps://
	CA       string // the file of its certificate
	User     string // the DN of who may do everything
	Password string
	Log      string // the file in which slapd itself notes each change (auditlog)
	server
}

// A Setup is more of how a slapd is set up, as lines of slapd.conf(5): of the server as a whole, and of its database.
type Setup struct{ Server, Database string }

// StartDirectory starts a slapd in a folder, with entries as LDIF (RFC 2849) below a suffix.
func StartDirectory(ctx context.Context, folder, suffix, entries string, more ...Setup) (*Directory, error) {
	slapd, err := installed("slapd", "slapd", "/usr/sbin", "/usr/lib/openldap", "/usr/local/libexec")
	if err != nil {
		return nil, err
	}
	slapadd, err := installed("slapadd", "slapd", "/usr/sbin")
	if err != nil {
		return nil, err
	}
	data := filepath.Join(folder, "data")
	if err := os.MkdirAll(data, 0o700); err != nil {
		return nil, err
	}
	cert, key, err := certificate(folder)
	if err != nil {
		return nil, err
	}
	port, err := freePort()
	if err != nil {
		return nil, err
	}
	secure, err := freePort()
	if err != nil {
		return nil, err
	}
	d := &Directory{
		URL: fmt.Sprintf("ldap://127.0.0.1:%d", port), Secure: fmt.Sprintf("ldaps://127.0.0.1:%d", secure), CA: cert,
		User: "cn=admin," + suffix, Password: rand.Text(), Log: filepath.Join(folder, "changes.ldif"),
	}
	config := filepath.Join(folder, "slapd.conf")
	text := strings.NewReplacer(
		"SUFFIX", suffix, "USER", d.User, "PASSWORD", d.Password, "CERT", cert, "KEY", key, "DATA", data,
		"FOLDER", folder, "LOG", d.Log,
	).Replace(slapdConf)
	for _, x := range more {
		text = strings.Replace(text, "database mdb\n", x.Server+"database mdb\n", 1) + x.Database
	}
	entries += "\ndn: cn=policy," + suffix + "\nobjectClass: device\nobjectClass: pwdPolicy\ncn: policy\n" +
		"pwdAttribute: userPassword\npwdMustChange: TRUE\npwdLockout: TRUE\npwdMaxAge: 63072000\n"
	seed := filepath.Join(folder, "seed.ldif")
	err = errors.Join(os.WriteFile(config, []byte(text), 0o600), os.WriteFile(seed, []byte(entries), 0o600))
	if err != nil {
		return nil, err
	}
	if out, err := exec.CommandContext(ctx, slapadd, "-q", "-f", config, "-l", seed).CombinedOutput(); err != nil {
		return nil, fmt.Errorf("the entries were not taken: %w: %s", err, out)
	}
	d.again = func(ctx context.Context) (*process, error) {
		return start(ctx, exec.Command(slapd, "-d", "0", "-f", config, "-h", d.URL+"/ "+d.Secure+"/"), folder, port)
	}
	if d.process, err = d.again(ctx); err != nil {
		return nil, err
	}
	return d, nil
}

// slapdConf is how slapd is set up: people with a class of their own, locked by a password
// policy, and every change noted.
const slapdConf = `include /etc/ldap/schema/core.schema
include /etc/ldap/schema/cosine.schema
include /etc/ldap/schema/inetorgperson.schema
pidfile FOLDER/slapd.pid
modulepath /usr/lib/ldap
moduleload back_mdb
moduleload ppolicy
moduleload auditlog
TLSCertificateFile CERT
TLSCertificateKeyFile KEY
database mdb
maxsize 1073741824
suffix "SUFFIX"
rootdn "USER"
rootpw "PASSWORD"
directory DATA
index objectClass,uid,member eq
overlay ppolicy
ppolicy_default "cn=policy,SUFFIX"
ppolicy_use_lockout
overlay auditlog
auditlog LOG
`

package source

import (
	"context"
	"crypto/x509"
	"fmt"
)

// maxCA is how long a file of certificates may be, in bytes.
const maxCA = 1 << 20

// Roots are the system's certificates and those of a file in PEM (RFC 7468); nil, which
// stands for the system's alone, where no file is named.
func (t *Tree) Roots(ctx context.Context, file string) (*x509.CertPool, error) {
	if file == "" {
		return nil, nil
	}
	data, _, _, err := t.ReadAll(ctx, file, maxCA)
	if err != nil {
		return nil, err
	}
	pool, err := x509.SystemCertPool()
	if err != nil {
		pool = x509.NewCertPool()
	}
	if !pool.AppendCertsFromPEM(data) {
		return nil, fmt.Errorf("%s: the file holds no certificate; it is expected to be PEM", file)
	}
	return pool, nil
}

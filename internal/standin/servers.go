// Real servers are started here as well for trying and for tests: OpenLDAP's slapd and
// PostgreSQL, with made-up contents, in a folder of their own, on this machine alone.

package standin

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"sync/atomic"
	"time"
)

// patience is how long a server may take to answer once it is started.
const patience = 30 * time.Second

// A Missing says that a server is not installed.
type Missing struct{ Program, Package string }

func (e *Missing) Error() string {
	return fmt.Sprintf("%s is not installed; on Debian: apt-get install %s", e.Program, e.Package)
}

// installed looks for a program on the PATH and where Debian puts it.
func installed(name, debian string, folders ...string) (string, error) {
	if path, err := exec.LookPath(name); err == nil {
		return path, nil
	}
	for _, pattern := range folders {
		found, err := filepath.Glob(filepath.Join(pattern, name))
		if err == nil && len(found) > 0 {
			return found[len(found)-1], nil
		}
	}
	return "", &Missing{name, debian}
}

// Ports are given out from below those that the system gives to whoever asks for any (32768 and up on
// Linux), each once in a process, so that nobody else comes to listen at one before its server does.
const (
	firstPort = 20_000
	manyPorts = 12_000
)

var nextPort atomic.Int64

// freePort is a port of this machine that nobody listens at.
func freePort() (int, error) {
	for range manyPorts {
		n := int64(os.Getpid())*97 + nextPort.Add(1)
		port := firstPort + int(n%manyPorts)
		l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err == nil {
			return port, l.Close()
		}
	}
	return 0, errors.New("no port could be had")
}

// A process is a server that runs.
type process struct {
	cmd   *exec.Cmd
	said  string // the file with what it has said
	ended chan error
}

// A server is a process that can be started again, at the same addresses.
type server struct {
	process *process
	again   func(ctx context.Context) (*process, error)
}

// Stop ends the server.
func (s *server) Stop() error { return s.process.stop(os.Interrupt) }

// Restart ends the server, with all that is open, and starts it again after a pause.
func (s *server) Restart(ctx context.Context, pause time.Duration) (err error) {
	if err := s.Stop(); err != nil {
		return err
	}
	time.Sleep(pause)
	s.process, err = s.again(ctx)
	return err
}

// start starts a server and waits until something listens at its port.
func start(ctx context.Context, cmd *exec.Cmd, folder string, port int) (*process, error) {
	p := &process{cmd: cmd, said: filepath.Join(folder, "said.log"), ended: make(chan error, 1)}
	log, err := os.OpenFile(p.said, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return nil, err
	}
	defer log.Close()
	cmd.Stdout, cmd.Stderr = log, log
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	go func() { p.ended <- cmd.Wait() }()
	for deadline := time.Now().Add(patience); ; time.Sleep(20 * time.Millisecond) {
		conn, err := net.DialTimeout("tcp", fmt.Sprintf("127.0.0.1:%d", port), time.Second)
		if err == nil {
			return p, conn.Close()
		}
		select {
		case <-p.ended:
			return nil, fmt.Errorf("%s ended at once: %s", filepath.Base(cmd.Path), p.told())
		case <-ctx.Done():
			return nil, errors.Join(ctx.Err(), p.stop(os.Kill))
		default:
		}
		if time.Now().After(deadline) {
			return nil, errors.Join(fmt.Errorf("%s does not answer", filepath.Base(cmd.Path)), p.stop(os.Kill))
		}
	}
}

// told is all that a server has said.
func (p *process) told() string {
	data, err := os.ReadFile(p.said)
	if err != nil {
		return err.Error()
	}
	return string(data)
}

// stop ends a server and waits until it has ended.
func (p *process) stop(how os.Signal) error {
	if err := p.cmd.Process.Signal(how); err != nil && !errors.Is(err, os.ErrProcessDone) {
		return err
	}
	select {
	case <-p.ended:
	case <-time.After(patience):
		_ = p.cmd.Process.Kill()
		<-p.ended
	}
	return nil
}

// certificate writes a certificate for this machine and its key, in PEM. The certificate is
// its own authority.
func certificate(folder string) (cert, key string, err error) {
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return "", "", err
	}
	template := &x509.Certificate{
		SerialNumber: big.NewInt(
			time.Now().UnixNano(),
		), Subject: pkix.Name{CommonName: "Marrowick Ferries, for trying"},
		NotBefore: time.Now().
			Add(-time.Hour),
		NotAfter: time.Now().AddDate(1, 0, 0), IsCA: true, BasicConstraintsValid: true,
		KeyUsage:    x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, DNSNames: []string{"localhost"},
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &private.PublicKey, private)
	if err != nil {
		return "", "", err
	}
	secret, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		return "", "", err
	}
	cert, key = filepath.Join(folder, "cert.pem"), filepath.Join(folder, "key.pem")
	err = errors.Join(
		os.WriteFile(cert, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600),
		os.WriteFile(key, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: secret}), 0o600),
	)
	return cert, key, err
}

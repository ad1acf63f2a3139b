package ftplink

import (
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"strings"

	"reshard/internal/core/account"
	"reshard/internal/core/fault"
)

// What account.Account.Key says of a host that is reached over FTP, when it is no accepted
// certificate: its certificate is vouched for by the roots, or a person has chosen to go without
// TLS.
const (
	ByRoots = "roots"
	NoTLS   = "none"
)

// certified begins an account's key that is the fingerprint of an accepted certificate.
const certified = "x509 "

// CertificateError says that a host has shown a certificate that neither the roots nor a person
// vouch for. Nothing was sent to it but a greeting.
type CertificateError struct {
	// Fingerprint is of the certificate that was shown, Accepted of the one that was expected; "":
	// none has been accepted. Both are as openssl x509 -fingerprint -sha256 shows them.
	Fingerprint, Accepted string
	// Why the roots do not vouch for it.
	Why error
}

func (e *CertificateError) Error() string {
	if e.Accepted != "" {
		return "the host shows another certificate (" + e.Fingerprint + ") than the accepted one (" + e.Accepted + ")"
	}
	return "the host's certificate " + e.Fingerprint + " is not vouched for: " + e.Why.Error()
}

func (e *CertificateError) Unwrap() error { return e.Why }

func (e *CertificateError) fault(name string) error {
	f := &fault.Error{Code: fault.Unreachable, Op: "sign in to", Path: name, What: e.Error(), Err: e}
	accept := "reshard hosts change " + name + " --accept-key " + e.Fingerprint + "."
	if e.Accepted == "" {
		return f.With("Give the roots that vouch for it (--roots FILE), or compare the fingerprint with the one that " +
			"the host's owner gives, then accept it: " + accept)
	}
	return f.With("It may have been renewed, or somebody may stand between you and the host. Ask its owner for the " +
		"fingerprint. When it is the new one, accept it: " + accept)
}

// Fingerprint gives that of an account's accepted certificate; "" when the key is none.
func Fingerprint(key string) string {
	print, ok := strings.CutPrefix(key, certified)
	if !ok {
		return ""
	}
	return print
}

func fingerprint(c *x509.Certificate) string {
	sum := sha256.Sum256(c.Raw)
	return strings.ReplaceAll(fmt.Sprintf("% X", sum[:]), " ", ":")
}

// Check is Invalid for roots that are none.
func Check(a account.Account) error {
	_, err := rootsOf(a)
	return err
}

func rootsOf(a account.Account) (*x509.CertPool, error) {
	if a.Roots == "" {
		return nil, nil //nolint:nilnil // the system's
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM([]byte(a.Roots)) {
		return nil, fault.New(fault.Invalid, "read", "the roots", "they hold no certificate in PEM").
			With("Give a file with one or more blocks BEGIN CERTIFICATE, as certificate authorities hand out.")
	}
	return pool, nil
}

// tlsOf is how TLS is spoken with a host. Go's own check is replaced by one that knows accepted
// certificates, too; it is made at resumed sessions as well. Data connections resume the session of
// the control connection, which many hosts ask for. TLS 1.3 is left out: what is sent last over a
// data connection can be lost there (RFC 8446, 6.1: each side closes for itself).
func tlsOf(a account.Account) (*tls.Config, error) {
	roots, err := rootsOf(a)
	if err != nil {
		return nil, err
	}
	return &tls.Config{
		ServerName: a.Host, MinVersion: tls.VersionTLS12, MaxVersion: tls.VersionTLS12,
		ClientSessionCache: tls.NewLRUClientSessionCache(1),
		InsecureSkipVerify: true, //nolint:gosec // VerifyConnection checks
		VerifyConnection:   func(s tls.ConnectionState) error { return vouched(a, roots, s.PeerCertificates) },
	}, nil
}

// vouched reports whether a certificate is the accepted one, or one for the host that roots vouch
// for where no other was accepted.
func vouched(a account.Account, roots *x509.CertPool, shown []*x509.Certificate) error {
	if len(shown) == 0 {
		return &CertificateError{Why: fault.New(fault.Invalid, "", "", "it shows none")}
	}
	e := &CertificateError{Fingerprint: fingerprint(shown[0]), Accepted: Fingerprint(a.Key)}
	if e.Accepted != "" {
		if e.Accepted == e.Fingerprint {
			return nil
		}
		return e
	}
	between := x509.NewCertPool()
	for _, c := range shown[1:] {
		between.AddCert(c)
	}
	if _, e.Why = shown[0].Verify(x509.VerifyOptions{
		DNSName: a.Host, Roots: roots, Intermediates: between,
	}); e.Why != nil {
		return e
	}
	return nil
}

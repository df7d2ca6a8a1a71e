package exchange

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"sync/atomic"
	"time"

	"unquil/core/escape"
)

// Security is how a connection was protected, and what the server's certificate says.
type Security struct {
	Version  string // of TLS
	Names    []escape.Text
	Issuer   escape.Text
	NotAfter time.Time
}

// HandshakeError says at which step a TLS handshake failed, and why.
type HandshakeError struct {
	Step string
	Err  error
}

func (e *HandshakeError) Error() string { return e.Step + ": " + e.Err.Error() }

func (e *HandshakeError) Unwrap() error { return e.Err }

// Bounds on what is kept of a certificate.
const (
	maxNames = 20
	maxText  = 255 // bytes of a name
)

func issuerOf(certificate *x509.Certificate) escape.Text {
	issuer := certificate.Issuer.String()
	return escape.Of(issuer[:min(len(issuer), maxText)])
}

// tlsConfig checks the server's certificate by itself, so that what it says is
// known even when it does not pass.
func tlsConfig(server Server, o Options, seen *atomic.Pointer[Security], now func() time.Time, protocols ...string) *tls.Config {
	name := o.TLSName
	if name == "" {
		name = server.TLSName
	}
	if name == "" {
		name = server.Address.Addr().WithZone("").String()
	}
	return &tls.Config{
		ServerName:         name,
		NextProtos:         protocols,
		MinVersion:         tls.VersionTLS12,
		InsecureSkipVerify: true, // verified in VerifyConnection below
		VerifyConnection: func(state tls.ConnectionState) error {
			if len(state.PeerCertificates) == 0 {
				return &HandshakeError{"checking the certificate", errors.New("the server sent none")}
			}
			certificate := state.PeerCertificates[0]
			known := &Security{Version: tls.VersionName(state.Version), Issuer: issuerOf(certificate), NotAfter: certificate.NotAfter}
			for _, name := range certificate.DNSNames[:min(len(certificate.DNSNames), maxNames)] {
				known.Names = append(known.Names, escape.Of(name[:min(len(name), maxText)]))
			}
			for _, ip := range certificate.IPAddresses {
				known.Names = append(known.Names, escape.Text(ip.String()))
			}
			known.Names = known.Names[:min(len(known.Names), maxNames)]
			seen.Store(known)
			between := x509.NewCertPool()
			for _, c := range state.PeerCertificates[1:] {
				between.AddCert(c)
			}
			_, err := certificate.Verify(x509.VerifyOptions{DNSName: name, Roots: o.CAs, Intermediates: between, CurrentTime: now()})
			if err != nil {
				return &HandshakeError{"checking the certificate", certificateError(err, certificate, name)}
			}
			return nil
		},
	}
}

// certificateError says what is wrong with a certificate in plain words.
func certificateError(err error, certificate *x509.Certificate, name string) error {
	if _, ok := errors.AsType[x509.HostnameError](err); ok {
		return fmt.Errorf("it is not for %q", name)
	}
	if _, ok := errors.AsType[x509.UnknownAuthorityError](err); ok {
		return fmt.Errorf("it is not signed by an authority trusted here (its issuer is \"%s\")", issuerOf(certificate))
	}
	if invalid, ok := errors.AsType[x509.CertificateInvalidError](err); ok && invalid.Reason == x509.Expired {
		return fmt.Errorf("it is valid only from %s to %s", certificate.NotBefore.Format(time.DateTime), certificate.NotAfter.Format(time.DateTime))
	}
	return err
}

// handshakeError names the step that failed.
func handshakeError(err error) error {
	if known, ok := errors.AsType[*HandshakeError](err); ok {
		return known
	}
	return &HandshakeError{"TLS handshake", err}
}

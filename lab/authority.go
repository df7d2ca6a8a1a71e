package lab

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"math/big"
	"net"
	"net/netip"
	"time"
)

// authority signs the certificates of the lab's hosts. It is made when the
// first of them is needed and is trusted nowhere else.
type authority struct {
	key         *ecdsa.PrivateKey
	certificate *x509.Certificate
}

func newAuthority(now time.Time) (*authority, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	template := &x509.Certificate{
		SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "lab of unquil"},
		NotBefore: now.Add(-time.Hour), NotAfter: now.Add(24 * time.Hour),
		IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign,
	}
	certificate, err := issue(template, template, key, key)
	if err != nil {
		return nil, err
	}
	return &authority{key, certificate}, nil
}

func issue(template, parent *x509.Certificate, public, signer *ecdsa.PrivateKey) (*x509.Certificate, error) {
	der, err := x509.CreateCertificate(rand.Reader, template, parent, &public.PublicKey, signer)
	if err != nil {
		return nil, err
	}
	return x509.ParseCertificate(der)
}

// certify returns a certificate for names and addresses, valid for a day.
func (a *authority) certify(now time.Time, names []string, addresses []netip.Addr) (tls.Certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return tls.Certificate{}, err
	}
	template := &x509.Certificate{
		SerialNumber: big.NewInt(now.UnixNano()), Subject: pkix.Name{CommonName: names[0]}, DNSNames: names,
		NotBefore: now.Add(-time.Hour), NotAfter: now.Add(24 * time.Hour),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	for _, address := range addresses {
		template.IPAddresses = append(template.IPAddresses, net.IP(address.AsSlice()))
	}
	certificate, err := issue(template, a.certificate, key, a.key)
	if err != nil {
		return tls.Certificate{}, err
	}
	return tls.Certificate{Certificate: [][]byte{certificate.Raw, a.certificate.Raw}, PrivateKey: key}, nil
}

// CAs is the pool with the lab's own authority. The error is that of making a key.
func (l *Lab) CAs() (*x509.CertPool, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if err := l.needAuthority(); err != nil {
		return nil, err
	}
	pool := x509.NewCertPool()
	pool.AddCert(l.authority.certificate)
	return pool, nil
}

// needAuthority makes the authority once; l.mu is held.
func (l *Lab) needAuthority() (err error) {
	if l.authority == nil {
		l.authority, err = newAuthority(l.clock())
	}
	return err
}

// certificate is that of the machine with an address; l.mu is held.
func (l *Lab) certificate(a netip.Addr) (tls.Certificate, error) {
	if err := l.needAuthority(); err != nil {
		return tls.Certificate{}, err
	}
	identity, now := l.identities[a], l.clock()
	if identity.lapsed {
		now = now.AddDate(0, 0, -3)
	}
	return l.authority.certify(now, identity.names, identity.addresses)
}

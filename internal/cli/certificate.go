package cli

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"time"

	"redstart/internal/core/problem"
)

// certificateTime is how long a self-made certificate is good.
const certificateTime = 5 * 365 * 24 * time.Hour

// selfMade gives the files of a certificate that the service made for itself,
// and makes them when there are none: for when it listens on other than
// loopback and nobody gave it one. Browsers will ask; the pin tells them apart.
func selfMade(dir, host, below string) (cert, key string, err error) {
	cert, key = filepath.Join(dir, "tls.pem"), filepath.Join(dir, "tls-key.pem")
	if pair, err := tls.LoadX509KeyPair(cert, key); err == nil && time.Now().Before(pair.Leaf.NotAfter) &&
		pair.Leaf.VerifyHostname(nameOr(host)) == nil &&
		(below == "" || pair.Leaf.VerifyHostname("box."+below) == nil) {
		return cert, key, nil
	}
	fail := func(err error) (string, string, error) {
		return "", "", problem.New(problem.Machine, "a certificate could not be made",
			"give one with --certificate and --key").About(dir).Because(err)
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return fail(err)
	}
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return fail(err)
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		return fail(err)
	}
	template := &x509.Certificate{
		SerialNumber: serial, Subject: pkix.Name{CommonName: "Redstart on " + nameOr(host)},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(certificateTime),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		DNSNames: []string{nameOr(""), "localhost"}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1), net.IPv6loopback},
	}
	if ip := net.ParseIP(host); ip != nil && !ip.IsUnspecified() {
		template.IPAddresses = append(template.IPAddresses, ip)
	} else if ip == nil && host != "" {
		template.DNSNames = append(template.DNSNames, host)
	}
	if below != "" {
		template.DNSNames = append(template.DNSNames, "*."+below)
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, private.Public(), private)
	if err != nil {
		return fail(err)
	}
	pkcs8, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		return fail(err)
	}
	if err := errors.Join(
		os.WriteFile(key, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: pkcs8}), 0o600),
		os.WriteFile(cert, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o644)); err != nil {
		return fail(err)
	}
	return cert, key, nil
}

// nameOr gives a host, or this computer's name for the address of any.
func nameOr(host string) string {
	if ip := net.ParseIP(host); host != "" && (ip == nil || !ip.IsUnspecified()) {
		return host
	}
	if name, err := os.Hostname(); err == nil {
		return name
	}
	return "localhost"
}

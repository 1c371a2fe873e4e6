package e2e

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"math/big"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"redstart/internal/client"
)

// With a certificate of its own the service speaks TLS, and commands on the
// same computer reach it and nobody else in its place.
func TestCommandsReachAServiceOverTLS(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	sheet := &x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, sheet, sheet, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	cert, secret, data := filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem"), filepath.Join(dir, "data")
	for file, block := range map[string]*pem.Block{cert: {Type: "CERTIFICATE", Bytes: der},
		secret: {Type: "PRIVATE KEY", Bytes: private}} {
		if err := os.WriteFile(file, pem.EncodeToMemory(block), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	p := spawn(t, "Not plugged", data, os.Args[0], "serve", "--listen", "127.0.0.1:0", "--certificate", cert, "--key",
		secret)
	has(t, "serve", p.lines.String(), "Redstart serves https://127.0.0.1:")
	out, errs, code := run("vault", "status", "--data", data)
	if code != 0 {
		t.Fatalf("vault status: exit code %d\n%s%s", code, out, errs)
	}
	has(t, "vault status", out, "open", "key file")
	// Somebody else with another certificate is not the service.
	handle, err := os.ReadFile(filepath.Join(data, "service.json"))
	if err != nil {
		t.Fatal(err)
	}
	other := strings.Replace(string(handle), client.Pin(der), client.Pin([]byte("another")), 1)
	if other == string(handle) {
		t.Fatal("the handle does not pin the certificate")
	}
	if err := os.WriteFile(filepath.Join(data, "service.json"), []byte(other), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, _, code := run("vault", "status", "--data", data); code != 1 {
		t.Errorf("a foreign certificate was taken for the service's: exit code %d", code)
	}
}

// On other than loopback the service makes itself a certificate, keeps it over
// restarts, and tells its fingerprint; 0.0.0.0 reaches loopback as well.
func TestASelfMadeCertificateWhereNoneIsGiven(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	pins := map[string]bool{}
	for range 2 {
		p := spawn(t, "Not plugged", data, os.Args[0], "serve", "--listen", "0.0.0.0:0")
		text := p.lines.String()
		has(t, "serve", text, "https://", "Certificate, SHA-256: ")
		_, after, _ := strings.Cut(text, "SHA-256: ")
		pin, _, _ := strings.Cut(after, "\n")
		pins[pin] = true
		if out, errs, code := run("site", "list", "--data", data); code != 1 ||
			!strings.Contains(errs, "there is no site yet") {
			t.Errorf("exit code %d\n%s%s", code, out, errs)
		}
		_ = p.cmd.Process.Signal(os.Interrupt) // checked by what follows
		<-p.done
	}
	if len(pins) != 1 {
		t.Errorf("the certificate changed with a restart: %v", pins)
	}
	if info, err := os.Stat(filepath.Join(data, "tls-key.pem")); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the key can be read by others: %v", err)
	}
}

package cli

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"log/slog"
	"math/big"
	"os"
	"path/filepath"
	"testing"
	"time"
)

// writeCertificate makes one of a number that is signed by itself.
func writeCertificate(t *testing.T, chain, key string, number int64, changed time.Time) {
	t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	der, err := x509.CreateCertificate(rand.Reader, &x509.Certificate{SerialNumber: big.NewInt(number), NotAfter: time.Now().Add(time.Hour)}, &x509.Certificate{SerialNumber: big.NewInt(number)}, k.Public(), k)
	if err != nil {
		t.Fatal(err)
	}
	raw, err := x509.MarshalPKCS8PrivateKey(k)
	if err != nil {
		t.Fatal(err)
	}
	for path, block := range map[string]*pem.Block{chain: {Type: "CERTIFICATE", Bytes: der}, key: {Type: "PRIVATE KEY", Bytes: raw}} {
		if err := os.WriteFile(path, pem.EncodeToMemory(block), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Chtimes(chain, changed, changed); err != nil {
		t.Fatal(err)
	}
}

// A renewed certificate is taken without a new start; one that cannot be read leaves the old one.
func TestARenewedCertificate(t *testing.T) {
	dir := t.TempDir()
	c := &certificate{chain: filepath.Join(dir, "chain.pem"), key: filepath.Join(dir, "key.pem"), log: slog.New(slog.DiscardHandler)}
	if _, err := c.get(nil); err == nil {
		t.Fatal("there is none, and it is served")
	}
	number := func() int64 {
		t.Helper()
		pair, err := c.get(nil)
		if err != nil {
			t.Fatal(err)
		}
		x, err := x509.ParseCertificate(pair.Certificate[0])
		if err != nil {
			t.Fatal(err)
		}
		return x.SerialNumber.Int64()
	}
	day := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
	writeCertificate(t, c.chain, c.key, 1, day)
	if n := number(); n != 1 {
		t.Errorf("number %d", n)
	}
	writeCertificate(t, c.chain, c.key, 2, day.Add(time.Hour))
	if n := number(); n != 2 {
		t.Errorf("renewed, it is number %d", n)
	}
	if err := os.WriteFile(c.chain, []byte("half of it"), 0o600); err != nil {
		t.Fatal(err)
	}
	if n := number(); n != 2 {
		t.Errorf("while the new one is being written it is number %d", n)
	}
	writeCertificate(t, c.chain, c.key, 3, day.Add(2*time.Hour))
	if n := number(); n != 3 {
		t.Errorf("then it is number %d", n)
	}
}

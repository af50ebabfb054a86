package main

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"io"
	"log/slog"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"wladder/client"
	"wladder/core/view"
)

func TestDataIsChecked(t *testing.T) {
	dir := t.TempDir()
	os.WriteFile(filepath.Join(dir, "key"), nil, 0o640)
	if err := checkData(dir); err == nil || !strings.Contains(err.Error(), "others may read it (mode 640)") {
		t.Errorf("a key that others may read: %v", err)
	}
	os.Chmod(filepath.Join(dir, "key"), 0o600)
	os.Chmod(dir, 0o777)
	if err := checkData(dir); err == nil || !strings.Contains(err.Error(), "others may write there") {
		t.Errorf("a directory that others may write: %v", err)
	}
}

// certificate writes a new one for 127.0.0.1 with its key, and gives its number.
func certificate(t *testing.T, dir string, number int64) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	one := &x509.Certificate{SerialNumber: big.NewInt(number), Subject: pkix.Name{CommonName: "gate.vellmere.example"}, NotAfter: time.Now().Add(time.Hour), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	raw, err := x509.CreateCertificate(rand.Reader, one, one, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	os.WriteFile(filepath.Join(dir, "key.pem"), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}), 0o600)
	os.WriteFile(filepath.Join(dir, "certificate.pem"), pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: raw}), 0o644)
}

// TestCertificateIsReadAgain changes the files below a server that listens.
func TestCertificateIsReadAgain(t *testing.T) {
	dir := t.TempDir()
	certificate(t, dir, 1)
	d := door{listen: "127.0.0.1:0", certificate: filepath.Join(dir, "certificate.pem"), key: filepath.Join(dir, "key.pem")}
	listener, err := d.open(slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	server := &http.Server{Handler: http.NotFoundHandler(), ErrorLog: slog.NewLogLogger(slog.DiscardHandler, slog.LevelError)}
	go server.Serve(listener)
	defer server.Close()
	serial := func(version uint16) (int64, error) {
		conn, err := tls.Dial("tcp", listener.Addr().String(), &tls.Config{InsecureSkipVerify: true, MinVersion: tls.VersionTLS10, MaxVersion: version})
		if err != nil {
			return 0, err
		}
		defer conn.Close()
		return conn.ConnectionState().PeerCertificates[0].SerialNumber.Int64(), nil
	}
	if n, err := serial(tls.VersionTLS13); err != nil || n != 1 {
		t.Fatalf("certificate %d, %v", n, err)
	}
	if _, err := serial(tls.VersionTLS11); err == nil {
		t.Error("TLS 1.1 is spoken")
	}
	os.WriteFile(d.certificate, []byte("half of"), 0o644)
	for deadline := time.Now().Add(2500 * time.Millisecond); time.Now().Before(deadline); time.Sleep(200 * time.Millisecond) {
		if n, err := serial(tls.VersionTLS13); err != nil || n != 1 {
			t.Fatalf("half a certificate: %d, %v", n, err)
		}
	}
	certificate(t, dir, 2)
	for deadline := time.Now().Add(60 * time.Second); ; time.Sleep(100 * time.Millisecond) {
		if n, err := serial(tls.VersionTLS13); err == nil && n == 2 {
			break
		}
		if time.Now().After(deadline) {
			t.Fatal("the new certificate is not used")
		}
	}
}

// TestSlowConnections has 500 sides that send a byte now and then, while a person
// signs in.
func TestSlowConnections(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 36, 0)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	at := strings.TrimPrefix(w.url, "http://")
	for i := range 500 {
		conn, err := net.Dial("tcp", at)
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		go func() {
			text := "GET /api/v1/session HTTP/1.1\r\nHost: " + at + "\r\nX-Slow: "
			if i%2 == 0 {
				text = "POST /api/v1/session HTTP/1.1\r\nHost: " + at + "\r\nContent-Length: 100000\r\n\r\n{"
			}
			io.WriteString(conn, text)
			for tick := time.NewTicker(200 * time.Millisecond); ; {
				select {
				case <-ctx.Done():
					tick.Stop()
					return
				case <-tick.C:
					if _, err := conn.Write([]byte("a")); err != nil {
						return
					}
				}
			}
		}()
	}
	time.Sleep(time.Second)
	began := time.Now()
	_, err := client.New(w.url, "").SignIn(t.Context(), view.SignIn{Name: "ines", Password: "a long password"})
	took := time.Since(began)
	if err != nil {
		t.Fatal(err)
	}
	t.Logf("signed in after %s beside 500 slow connections; the server's peak is %d MiB", took.Round(time.Millisecond), usedBy(w.server.Process.Pid).peak>>20)
}

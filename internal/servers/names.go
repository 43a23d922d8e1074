package servers

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"math/big"
	"net"
	"strings"
	"sync"
	"time"

	"golang.org/x/net/dns/dnsmessage"
)

// Names answers which server a domain's chat is at (RFC 6120 §3.2.1), on loopback alone.
type Names struct {
	conn  net.PacketConn
	mu    sync.Mutex
	ports map[string]uint16
}

// NewNames begins to answer, at a port of loopback.
func NewNames() (*Names, error) {
	c, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	n := &Names{conn: c, ports: map[string]uint16{}}
	go n.serve()
	return n, nil
}

// Port is where it answers.
func (n *Names) Port() int { return n.conn.LocalAddr().(*net.UDPAddr).Port }

// Close ends it.
func (n *Names) Close() { _ = n.conn.Close() }

// At says at which port of localhost a domain's server listens for others.
func (n *Names) At(domain string, port int) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.ports[domain] = uint16(port)
}

func (n *Names) serve() {
	buf := make([]byte, 2048)
	for {
		k, from, err := n.conn.ReadFrom(buf)
		if err != nil {
			return
		}
		var m dnsmessage.Message
		if m.Unpack(buf[:k]) != nil || len(m.Questions) != 1 {
			continue
		}
		q := m.Questions[0]
		m.Response, m.Authoritative, m.RCode = true, true, dnsmessage.RCodeSuccess
		m.Answers, m.Authorities, m.Additionals = nil, nil, nil
		name := strings.ToLower(strings.TrimSuffix(q.Name.String(), "."))
		n.mu.Lock()
		port, known := n.ports[strings.TrimPrefix(name, "_xmpp-server._tcp.")]
		n.mu.Unlock()
		head := dnsmessage.ResourceHeader{Name: q.Name, Type: q.Type, Class: dnsmessage.ClassINET, TTL: 1}
		switch {
		case q.Type == dnsmessage.TypeSRV && known && strings.HasPrefix(name, "_xmpp-server._tcp."):
			m.Answers = []dnsmessage.Resource{{Header: head,
				Body: &dnsmessage.SRVResource{Port: port, Target: dnsmessage.MustNewName("localhost.")}}}
		case q.Type == dnsmessage.TypeA && name == "localhost":
			m.Answers = []dnsmessage.Resource{{Header: head, Body: &dnsmessage.AResource{A: [4]byte{127, 0, 0, 1}}}}
		case !known && name != "localhost":
			m.RCode = dnsmessage.RCodeNameError
		}
		if b, err := m.Pack(); err == nil {
			_, _ = n.conn.WriteTo(b, from)
		}
	}
}

// Authority gives servers on loopback certificates that they take from each other.
type Authority struct {
	key  *ecdsa.PrivateKey
	cert *x509.Certificate
	PEM  []byte
	Pool *x509.CertPool
}

// NewAuthority makes one, whose key is nowhere but in memory.
func NewAuthority() (*Authority, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	t := &x509.Certificate{
		SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "servers on loopback"}, NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().AddDate(1, 0, 0),
		IsCA:     true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign,
	}
	der, err := x509.CreateCertificate(rand.Reader, t, t, &key.PublicKey, key)
	if err != nil {
		return nil, err
	}
	cert, err := x509.ParseCertificate(der)
	if err != nil {
		return nil, err
	}
	a := &Authority{key: key, cert: cert, PEM: pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), Pool: x509.NewCertPool()}
	a.Pool.AddCert(cert)
	return a, nil
}

// Issue makes a certificate for names, as a server and as a client of others (RFC 6120 §13.7.1.2.1), and its key.
func (a *Authority) Issue(names ...string) (cert, key []byte, err error) {
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	serial, err := rand.Int(rand.Reader, big.NewInt(1<<60))
	if err != nil {
		return nil, nil, err
	}
	t := &x509.Certificate{
		SerialNumber: serial, Subject: pkix.Name{CommonName: names[0]}, DNSNames: names, NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().AddDate(0, 6, 0),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth},
	}
	der, err := x509.CreateCertificate(rand.Reader, t, a.cert, &k.PublicKey, a.key)
	if err != nil {
		return nil, nil, err
	}
	private, err2 := x509.MarshalECPrivateKey(k)
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}),
		pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: private}), errors.Join(err, err2)
}

package postgrestest

import (
	"net"
	"net/url"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// Proxy stands between a database and its server. It cuts a connection before, or behind, what the client sends
// with a number.
type Proxy struct {
	net.Listener
	to     string
	mu     sync.Mutex
	sent   int
	cutAt  int  // the message to cut at; 0 is none
	behind bool // the server hears it, and the client not the answer
}

// NewProxy lets what is sent to a URL go through one, and yields the URL to use.
func NewProxy(t testing.TB, where string) (*Proxy, string) {
	u, err := url.Parse(where)
	if err != nil {
		t.Fatal(err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	p := &Proxy{Listener: l, to: u.Host}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go p.serve(c)
		}
	}()
	u.Host = l.Addr().String()
	return p, u.String()
}

func (p *Proxy) serve(client net.Conn) {
	defer client.Close()
	server, err := net.Dial("tcp", p.to)
	if err != nil {
		return
	}
	defer server.Close()
	var mute atomic.Bool
	go func() {
		b := make([]byte, 64<<10)
		for {
			n, err := server.Read(b)
			if n > 0 && !mute.Load() {
				if _, err := client.Write(b[:n]); err != nil {
					return
				}
			}
			if err != nil {
				client.Close()
				return
			}
		}
	}()
	b := make([]byte, 64<<10)
	for {
		n, err := client.Read(b)
		if err != nil {
			return
		}
		p.mu.Lock()
		p.sent++
		cut := p.cutAt > 0 && p.sent >= p.cutAt
		if cut {
			p.cutAt = 0
		}
		behind := p.behind
		p.mu.Unlock()
		if cut && !behind {
			return
		}
		mute.Store(cut)
		if _, err := server.Write(b[:n]); err != nil {
			return
		}
		if cut {
			time.Sleep(20 * time.Millisecond) // it is done, and nobody hears so
			return
		}
	}
}

// Cut cuts at the nth message from now on; 0 is none.
func (p *Proxy) Cut(at int, behind bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.sent, p.cutAt, p.behind = 0, at, behind
}

// Sent is how many messages clients have sent: each waits for an answer.
func (p *Proxy) Sent() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.sent
}

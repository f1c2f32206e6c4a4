// Package nameservertest runs an authoritative name server of its own for a test.
package nameservertest

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/miekg/dns"
)

// The zone that the server has, and the key that lets one change it.
const (
	Zone    = "kestrelridge.example"
	KeyName = "ridge-key"
	Key     = "c25vdyBvbiB0aGUgcmlkZ2UsIHdpbmQgZnJvbSBub3I="
)

// Server is a name server in a folder of its own, which listens on a port of this machine alone.
type Server struct {
	Port string
	dir  string
	cmd  *exec.Cmd
}

// Start starts one; it ends with the test.
func Start(t testing.TB) *Server {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	s := &Server{Port: strconv.Itoa(l.Addr().(*net.TCPAddr).Port)}
	l.Close()
	if s.dir, err = os.MkdirTemp("/tmp", "brickrow-names-"); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(s.dir) })
	for name, text := range map[string]string{
		"conf": fmt.Sprintf(`options { directory "%s"; listen-on port %s { 127.0.0.1; }; listen-on-v6 { none; }; recursion no; pid-file none; session-keyfile none; dnssec-validation no; notify no; };
controls { };
key "%s" { algorithm hmac-sha256; secret "%s"; };
zone "%s" { type primary; file "zone"; allow-update { key %s; }; allow-transfer { key %s; }; };
`, s.dir, s.Port, KeyName, Key, Zone, KeyName, KeyName),
		"zone": `$TTL 300
@ IN SOA ns hostmaster 1 3600 600 86400 300
@ IN NS ns
ns IN A 127.0.0.1
old IN A 192.0.2.99
old IN TXT "from of old"
`,
	} {
		if err := os.WriteFile(filepath.Join(s.dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	s.Run(t)
	t.Cleanup(s.Stop)
	return s
}

// Run lets it run, again where it was stopped, and waits until it answers.
func (s *Server) Run(t testing.TB) {
	t.Helper()
	path, err := exec.LookPath("named")
	if err != nil {
		path = "/usr/sbin/named"
	}
	s.cmd = exec.Command(path, "-f", "-c", filepath.Join(s.dir, "conf"), "-L", filepath.Join(s.dir, "log"))
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if err := s.cmd.Start(); err != nil {
		t.Fatalf("there is no name server on this machine: install the package bind9 (%v)", err)
	}
	m := new(dns.Msg)
	m.SetQuestion(dns.Fqdn(Zone), dns.TypeSOA)
	for range 200 {
		if answer, err := dns.Exchange(m, "127.0.0.1:"+s.Port); err == nil && len(answer.Answer) == 1 {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	log, _ := os.ReadFile(filepath.Join(s.dir, "log"))
	t.Fatalf("the name server does not answer: %s", log)
}

// Stop ends it.
func (s *Server) Stop() {
	if s.cmd != nil {
		_ = s.cmd.Process.Signal(syscall.SIGTERM)
		_ = s.cmd.Wait()
		s.cmd = nil
	}
}

// All is everything in the zone but for its serial number, as text.
func (s *Server) All(t testing.TB) string {
	t.Helper()
	m := new(dns.Msg)
	m.SetAxfr(dns.Fqdn(Zone))
	m.SetTsig(dns.Fqdn(KeyName), dns.HmacSHA256, 300, time.Now().Unix())
	answers, err := (&dns.Transfer{TsigSecret: map[string]string{dns.Fqdn(KeyName): Key}}).In(m, "127.0.0.1:"+s.Port)
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for part := range answers {
		if part.Error != nil {
			t.Fatal(part.Error)
		}
		for _, rr := range part.RR {
			if rr.Header().Rrtype != dns.TypeSOA {
				out = append(out, strings.ReplaceAll(rr.String(), "\t", " "))
			}
		}
	}
	return strings.Join(out, "\n")
}

// Change changes the zone by hand: records are added, or removed where remove is true.
func (s *Server) Change(t testing.TB, remove bool, records ...string) {
	t.Helper()
	m := new(dns.Msg)
	m.SetUpdate(dns.Fqdn(Zone))
	for _, text := range records {
		rr, err := dns.NewRR(text)
		if err != nil {
			t.Fatal(err)
		}
		if remove {
			m.Remove([]dns.RR{rr})
		} else {
			m.Insert([]dns.RR{rr})
		}
	}
	m.SetTsig(dns.Fqdn(KeyName), dns.HmacSHA256, 300, time.Now().Unix())
	answer, _, err := (&dns.Client{Net: "tcp", TsigSecret: map[string]string{dns.Fqdn(KeyName): Key}}).Exchange(m, "127.0.0.1:"+s.Port)
	if err != nil || answer.Rcode != dns.RcodeSuccess {
		t.Fatalf("%v %v", err, answer)
	}
}

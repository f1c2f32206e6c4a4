package agent

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"brickrow/internal/printed"
)

// carry runs a script in a process of its own.
func carry(t *testing.T, c *Crew, r *Request) (a Answer, out, errs string) {
	t.Helper()
	var stdout, stderr bytes.Buffer
	a, err := c.Run(t.Context(), r, &stdout, &stderr, func(_ context.Context, a Ask) (int, string, error) {
		return 200, a.Method + " " + a.URL + " " + a.Body, nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return a, stdout.String(), stderr.String()
}

// Scripts do what such scripts do elsewhere.
func TestScripts(t *testing.T) {
	c := NewCrew()
	defer c.Close()
	for _, s := range []struct {
		script, out string
		exit        int
	}{
		{"echo hello $NAME; pwd; exit 3", "hello ridge\n/root\n", 3},
		{"mkdir -p /srv/www; echo hi > /srv/www/index.html; cd /srv; ls www; cat www/*.html; test -f www/index.html && echo there", "index.html\nhi\nthere\n", 0},
		{"for i in $(seq 3); do echo $i; done | sort -r | head -n 2 | tr '\\n' ' '", "3 2 ", 0},
		{"cat > a <<EOF\nport = @PORT@\nEOF\nsed -i 's/@PORT@/8080/' a; cp a b; mv b c; cat c; wc -l < c; rm a c; ls", "port = 8080\n1\nscripts\n", 0},
		{"echo '{\"a\":[1,2]}' | jq -c '.a | map(. + 1)'; echo x,y,z | cut -d, -f2-; printf 'b\\na\\nb\\n' | sort | uniq -c", "[2,3]\ny,z\n      1 a\n      2 b\n", 0},
		{"printf 'one\\ntwo\\nthree\\n' | grep -v 'wo$' | sed -n '$p'; echo abc | sed 's/\\(b\\)/[\\1]/'; echo aab | sed -E 's/a+/<&>/'", "three\na[b]c\n<aa>b\n", 0},
		{"service web start 8080 /tmp; service web status; package install tide; package install tide; package list; crontab -l || echo none", "web runs\ninstalled tide\ntide\nnone\n", 0},
		{"curl -s -X PUT -d body http://queue; echo; lib() { echo in lib; }; lib; sh -c 'echo $1' x y; echo 'echo $0 $1' > s.sh; chmod +x s.sh; ./s.sh z", "PUT http://queue body\nin lib\ny\n./s.sh z\n", 0},
		{". scripts/lib.sh; greet", "hello from lib\n", 0},
		{"result where here; echo there | result too; echo out | base64 | base64 -d; echo x | sha256sum | cut -c1-6", "out\n73cb38\n", 0},
		{"umask 077; ulimit -n 10; chown -R root:root /etc; id -u; whoami; uname; which jq cat; kill -0 7 || echo none", "0\nroot\nLinux\n/bin/jq\n/bin/cat\nnone\n", 0},
		{"mkdir a; echo x > a/f; ln -s f a/g; cat a/g; printf '1\\n2\\n' | tac; echo b c | xargs -n 1 echo a; printf 'x y' | xargs; command -p echo p", "x\n2\n1\na b\na c\nx y\np\n", 0},
		{"sleep 20 & sleep 10; wait; echo done", "done\n", 0},
		{"set -e; false; echo no", "", 1},
		{"no-such-command", "", 127},
		{"if [ -x /bin/curl ] && command -v jq > /dev/null; then echo both; fi", "both\n", 0},
		{"find /etc /tmp -type d; hostname", "/etc\n/tmp\nserver~x\n", 0},
	} {
		a, out, errs := carry(t, c, &Request{Server: "server~x", Name: "setup.sh", Script: s.script, Environ: map[string]string{"NAME": "ridge"},
			Beside: map[string]string{"lib.sh": "greet() { echo hello from lib; }"}, Limits: Usual, Speed: 1000})
		if out != s.out || a.Exit != s.exit {
			t.Errorf("%s\nprinted %q, want %q; exit %d, want %d; %s %s", s.script, out, s.out, a.Exit, s.exit, errs, a.Problem)
		}
		if strings.Contains(s.script, "result where") && (a.Results["where"] != "here" || a.Results["too"] != "there") {
			t.Errorf("the results are %v", a.Results)
		}
	}
}

// What a script leaves behind is there for the next one, and nothing else is.
func TestFilesStay(t *testing.T) {
	c := NewCrew()
	defer c.Close()
	a, _, _ := carry(t, c, &Request{Script: "mkdir /srv; echo one > /srv/a; echo x > /tmp/y; service web start 80 /srv", Limits: Usual})
	b, out, _ := carry(t, c, &Request{Script: "cat /srv/a; echo two >> /srv/a; cat /srv/a; ls /tmp", Files: a.Files, Limits: Usual})
	if out != "one\none\ntwo\n" || string(b.Files["/srv/a"].Text) != "one\ntwo\n" {
		t.Errorf("%q %v", out, b.Files)
	}
	if s := a.Files.Services(); len(s) != 1 || s[0] != (Service{"web", 80, "/srv"}) {
		t.Errorf("services: %v", s)
	}
}

// A script cannot name anything of this machine, whatever it tries.
func TestNoWayOut(t *testing.T) {
	dir := t.TempDir()
	secret := filepath.Join(dir, "secret")
	if err := os.WriteFile(secret, []byte("hoarfrost"), 0o600); err != nil {
		t.Fatal(err)
	}
	t.Setenv("BRICKROW_TOKEN", "hoarfrost")
	before, _ := filepath.Glob(filepath.Join(os.TempDir(), "sh-interp-*"))
	c := NewCrew()
	defer c.Close()
	for _, script := range []string{
		"cat " + secret, "cat ../../../../../.." + secret, "cat < " + secret, "echo $(< " + secret + ")", "source " + secret,
		"ls " + dir, "echo " + dir + "/*", "cd " + dir + " && ls", "test -e " + secret + " && echo hoarfrost", "[ -r " + secret + " ] && echo hoarfrost",
		"echo x > " + dir + "/new", "rm -rf " + dir, "ln -s " + secret + " x; cat x", "env", "printenv; set; export -p", "cat /proc/self/environ /etc/passwd /etc/hostname",
		"/bin/sh -c 'cat " + secret + "'", "/usr/bin/env", "exec /bin/cat " + secret, "cat <(echo hi)", "echo hi > >(cat)", "TMPDIR=/tmp; cat <(echo hi)",
		"echo x > /tmp/sh-interp-1; cat /tmp/sh-interp-1", "jq -n 'env'", "jq -n 'input_filename, $ENV'", "find / -name secret", "exec 3<" + secret + "; cat <&3",
		"[ -O " + secret + " ]; [ -G /root ]; [ /root -nt " + secret + " ]", "echo ~root ~daemon", "kill -9 $PPID", "trap 'cat " + secret + "' EXIT",
	} {
		_, out, errs := carry(t, c, &Request{Script: script, Limits: Usual})
		if strings.Contains(out+errs, "hoarfrost") || strings.Contains(out, "passwd") {
			t.Errorf("%s\n%s%s", script, out, errs)
		}
	}
	if text, err := os.ReadFile(secret); err != nil || string(text) != "hoarfrost" {
		t.Errorf("%q %v", text, err)
	}
	if left, _ := os.ReadDir(dir); len(left) != 1 {
		t.Errorf("it left %v", left)
	}
	if after, _ := filepath.Glob(filepath.Join(os.TempDir(), "sh-interp-*")); len(after) != len(before) {
		t.Errorf("it left %v", after)
	}
}

// What takes too much is ended, with words, and the next script runs all the same.
func TestTooMuch(t *testing.T) {
	c := NewCrew()
	defer c.Close()
	quick := Usual
	quick.Time = 700 * time.Millisecond
	for _, s := range []struct {
		script string
		limits Limits
		words  string
	}{
		{"while :; do :; done", quick, "it took longer than 700ms"},
		{"sleep 1000000", Limits{Disk: 1 << 20, Files: 100, Results: 100, Time: time.Hour}, "it took longer than 1h"},
		{"(while :; do sleep 100; done) & wait", Limits{Disk: 1 << 20, Files: 100, Results: 100, Time: time.Hour}, "it took longer than 1h"},
		{"x=aaaaaaaaaaaaaaaa; for i in $(seq 40); do x=$x$x; done", Usual, "memory"},
		{"f() { f; }; f", quick, ""},
		{"cat /dev/zero; while true; do echo aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa >> big; done", Limits{Disk: 100 << 10, Files: 100, Time: 2 * time.Second, Results: 100}, "it took longer"},
		{"if", Usual, "it cannot be read"},
	} {
		a, out, errs := carry(t, c, &Request{Script: s.script, Limits: s.limits, Speed: 1e9})
		if !strings.Contains(a.Problem, s.words) || a.Exit == 0 {
			t.Errorf("%s: exit %d, %q, want %q\n%.300s%.300s", s.script, a.Exit, a.Problem, s.words, out, errs)
		}
		if a.Files.Size() > s.limits.Disk {
			t.Errorf("%s: %d bytes are there", s.script, a.Files.Size())
		}
	}
	for _, script := range []string{"for i in $(seq 300); do echo x > f$i || exit 9; done", "for i in $(seq 100); do result r$i 1234567890 || exit 9; done",
		"x=$(seq 30000); for i in 1 2 3 4 5 6 7 8; do echo \"$x\" >> f || exit 9; done"} {
		a, _, errs := carry(t, c, &Request{Script: script, Limits: Limits{Disk: 1 << 20, Files: 100, Results: 100, Time: time.Minute}})
		if a.Exit != 9 && a.Exit != 1 {
			t.Errorf("%s: exit %d %s", script, a.Exit, errs)
		}
	}
	if _, out, _ := carry(t, c, &Request{Script: "echo still here", Limits: Usual}); out != "still here\n" {
		t.Error(out)
	}
}

// Much that is written is passed on as it comes, and held by nobody.
func TestMuchOutput(t *testing.T) {
	c := NewCrew()
	defer c.Close()
	n := 0
	count := writer(func(b []byte) { n += len(b) })
	a, err := c.Run(t.Context(), &Request{Script: "x=$(seq 2000); for i in $(seq 1000); do echo \"$x\"; done", Limits: Usual}, count, count, nil)
	if err != nil || a.Exit != 0 || n != 1000*8893 {
		t.Errorf("%d bytes, %v %+v", n, err, a.Problem)
	}
}

type writer func([]byte)

func (w writer) Write(b []byte) (int, error) { w(b); return len(b), nil }

// Many run side by side, each on its own files; who is ended by its context leaves nothing.
func TestManySideBySide(t *testing.T) {
	c := NewCrew()
	defer c.Close()
	errs := make(chan error, 200)
	for i := range 200 {
		go func() {
			var out bytes.Buffer
			a, err := c.Run(t.Context(), &Request{Script: fmt.Sprintf("echo %d > f; sleep 30; cat f", i), Limits: Usual, Speed: 1000}, &out, &out, nil)
			if err == nil && (a.Exit != 0 || out.String() != fmt.Sprintln(i)) {
				err = fmt.Errorf("%d: %q %d %s", i, out.String(), a.Exit, a.Problem)
			}
			errs <- err
		}()
	}
	for range 200 {
		if err := <-errs; err != nil {
			t.Error(err)
		}
	}
	ctx, cancel := context.WithTimeout(t.Context(), 200*time.Millisecond)
	defer cancel()
	if _, err := c.Run(ctx, &Request{Script: "sleep 1000", Limits: Limits{Disk: 1 << 20, Files: 100}}, &bytes.Buffer{}, &bytes.Buffer{}, nil); err == nil {
		t.Error("it was not ended")
	}
}

// BenchmarkLongOutput lets a script print 100 MB, of which the beginning and the end are kept: as a
// ratio, how much more memory is in use at most than is kept.
func BenchmarkLongOutput(b *testing.B) {
	c := NewCrew()
	defer c.Close()
	script := "i=0; x=0123456789abcdef; while [ $i -lt 16 ]; do x=$x$x; i=$((i+1)); done; i=0; while [ $i -lt 100 ]; do echo $x; i=$((i+1)); done"
	for b.Loop() {
		var before, now runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&before)
		text := printed.New(nil)
		most := uint64(0)
		a, err := c.Run(b.Context(), &Request{Server: "server~x", Script: script, Limits: Usual, Speed: 1}, writer(func(p []byte) {
			_, _ = text.Write(p)
			runtime.ReadMemStats(&now)
			most = max(most, now.HeapInuse)
		}), io.Discard, nil)
		if err != nil || a.Exit != 0 {
			b.Fatal(err, a)
		}
		b.ReportMetric(float64(most-min(most, before.HeapInuse))/printed.Most, "heap/kept")
	}
}

// TestMain lets the test binary be one of the processes that are begun.
func TestMain(m *testing.M) {
	if code, is := Serve(os.Args[1:]); is {
		os.Exit(code)
	}
	os.Exit(m.Run())
}

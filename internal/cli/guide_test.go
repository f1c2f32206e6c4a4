package cli

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"brickrow/internal/postgres/postgrestest"
)

// block is a piece of a page of the guide: commands, what they print, or a file.
type block struct {
	kind string // sh, text, or that of a file
	file string // its name, where it is one
	text string
	line int
}

var (
	fence     = regexp.MustCompile("^```(\\w*)$")
	namedFile = regexp.MustCompile("^(?:.* )?`([^` ]+)`:$")
	exitsWith = regexp.MustCompile(`\s+# exit code (\d)$`)
)

// blocksOf reads the pieces of a page. A file is named at the end of the line before it: "`hut.yaml`:".
func blocksOf(t *testing.T, page string) (out []block) {
	t.Helper()
	text, err := os.ReadFile(page)
	if err != nil {
		t.Fatal(err)
	}
	var now *block
	file := ""
	for i, line := range strings.Split(string(text), "\n") {
		m := fence.FindStringSubmatch(line)
		switch {
		case now == nil && m != nil:
			now = &block{kind: m[1], file: file, line: i + 1}
			file = ""
		case now != nil && line == "```":
			out = append(out, *now)
			now = nil
		case now != nil:
			now.text += line + "\n"
		case strings.TrimSpace(line) != "":
			file = ""
			if m := namedFile.FindStringSubmatch(line); m != nil {
				file = m[1]
			}
		}
	}
	if now != nil {
		t.Errorf("%s:%d: it does not end", page, now.line)
	}
	return out
}

// script is what bash is given for the commands of a page: each is held to its exit code, and what a block prints
// stands behind its number.
func script(blocks []block) string {
	var out strings.Builder
	out.WriteString("trap 'kill $(jobs -p) 2>/dev/null' EXIT\n") // also where a command goes wrong
	for i, b := range blocks {
		switch {
		case b.file != "":
			fmt.Fprintf(&out, "mkdir -p \"$(dirname '%s')\"; cat > '%s' <<'END OF THE FILE'\n%sEND OF THE FILE\n", b.file, b.file, b.text)
		case b.kind == "sh":
			fmt.Fprintf(&out, "echo '<<<%d>>>'\n", i)
			for _, command := range strings.Split(strings.ReplaceAll(strings.TrimSpace(b.text), "\\\n", " "), "\n") {
				want := "0"
				if m := exitsWith.FindStringSubmatch(command); m != nil {
					command, want = strings.TrimSuffix(command, m[0]), m[1]
				}
				fmt.Fprintf(&out, "%s\ncode=$?; [ $code = %s ] || { echo \"FAILED: line %d: exit code $code, want %s:\" %q; exit 99; }\n", command, want, b.line, want, command)
			}
		}
	}
	return out.String()
}

// TestGuide follows each page of the guide from an empty folder: all commands do what the page says, and print it.
// In what is printed … stands for anything, and between its lines there may be others.
func TestGuide(t *testing.T) {
	bin := binary(t)
	pages, err := filepath.Glob("../../docs/guide/[0-9]*.md")
	if err != nil || len(pages) != 10 {
		t.Fatalf("%d pages, %v", len(pages), err)
	}
	for _, page := range pages {
		t.Run(filepath.Base(page), func(t *testing.T) {
			t.Parallel()
			blocks := blocksOf(t, page)
			dir, bin := t.TempDir(), bin
			commands := script(blocks)
			if strings.Contains(commands, "sudo -u ben") {
				if os.Getuid() != 0 {
					t.Skip("only root can be two users")
				}
				dir, bin = desk(t)
				commands = `sudo() { shift 2; env HOME=$HOME/ben BRICKROW_HOME=$HOME/ben/data setpriv --reuid 65534 --regid 65534 --clear-groups "$@"; }
					mkdir $HOME/ben; chown 65534 $HOME/ben
					` + commands
			}
			cmd := exec.Command("bash", "-c", commands)
			cmd.Dir = filepath.Join(dir, "hut")
			if err := errors.Join(os.Mkdir(cmd.Dir, 0o755), os.Chmod(cmd.Dir, 0o777)); err != nil {
				t.Fatal(err)
			}
			cmd.Env = []string{"PATH=" + filepath.Dir(bin) + ":" + os.Getenv("PATH"), "HOME=" + dir, "BRICKROW_YARD_SPEED=200", "USER=ann", "TMPDIR=" + os.Getenv("TMPDIR"),
				"GIT_CONFIG_GLOBAL=" + filepath.Join(dir, "gitconfig"), "LANG=C.UTF-8"}
			if strings.Contains(commands, "$STORE") {
				cmd.Env = append(cmd.Env, "STORE="+postgrestest.Store(t))
			}
			out, err := cmd.CombinedOutput()
			if err != nil {
				t.Fatalf("%v\n%s", err, out)
			}
			said := map[int]string{}
			for _, part := range strings.Split("\n"+string(out), "\n<<<")[1:] {
				var n int
				number, text, _ := strings.Cut(part, ">>>")
				fmt.Sscan(number, &n)
				said[n] = text
			}
			last := -1
			for i, b := range blocks {
				if b.kind == "sh" {
					last = i
				}
				if b.kind != "text" || b.file != "" {
					continue
				}
				rest := said[last]
				for line := range strings.Lines(b.text) {
					line = strings.TrimSpace(line)
					pattern := regexp.MustCompile(`(?m)^\s*` + strings.Join(strings.Fields(strings.ReplaceAll(regexp.QuoteMeta(line), "…", ".*")), `\s+`) + `\s*$`)
					at := pattern.FindStringIndex(rest)
					if at == nil {
						t.Fatalf("%s:%d: %q is not printed, but\n%s", page, b.line, line, said[last])
					}
					rest = rest[at[1]:]
				}
			}
		})
	}
}

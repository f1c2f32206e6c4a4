package agent

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/itchyny/gojq"
	"go.yaml.in/yaml/v4"
)

// call is one command that a script calls.
type call struct {
	ctx     context.Context
	s       *script
	name    string
	args    []string
	dir     string
	in      io.Reader
	out     io.Writer
	err     io.Writer
	environ map[string]string
}

// commands are the everyday commands that there are on a server. They know its files, and
// nothing else. Each yields its exit code.
var commands map[string]func(*call) int

func init() {
	commands = map[string]func(*call) int{
		"base64": base64Command, "basename": func(c *call) int { return c.each(path.Base) }, "cat": cat, "chmod": chmod, "cp": cp,
		"crontab": crontab, "curl": curl, "cut": cut, "date": date, "dirname": func(c *call) int { return c.each(path.Dir) }, "df": df,
		"env": env, "find": find, "grep": grep, "head": head, "hostname": hostname, "jq": jq, "logger": logger, "ls": ls, "mkdir": mkdir,
		"mktemp": mktemp, "mv": mv, "package": packages, "result": result, "rm": rm, "rmdir": rmdir, "sed": sed, "seq": seq, "service": service,
		"sha256sum": sha256sum, "sleep": sleep, "sort": sorted, "tail": tail, "tee": tee, "touch": touch, "tr": tr, "uniq": uniq, "wc": wc, "yaml": yamlCommand,
	}
	maps.Copy(commands, everyday())
}

func (c *call) at(p string) string { return at(c.dir, p) }

// fail tells what is wrong and yields an exit code.
func (c *call) fail(format string, args ...any) int {
	fmt.Fprintf(c.err, "%s: %s\n", c.name, fmt.Sprintf(format, args...))
	return 1
}

// failed is as fail for an error.
func (c *call) failed(err error) int { return c.fail("%v", err) }

func (c *call) usage(words string) int {
	fmt.Fprintf(c.err, "usage: %s %s\n", c.name, words)
	return 2
}

// flags takes letters such as -r and -n 3 off the arguments. Those with a value are in valued.
// An unknown one is an error.
func (c *call) flags(letters, valued string) (on map[rune]string, ok bool) {
	on = map[rune]string{}
	for len(c.args) > 0 {
		a := c.args[0]
		if a == "--" {
			c.args = c.args[1:]
			break
		}
		if len(a) < 2 || a[0] != '-' {
			break
		}
		c.args = c.args[1:]
		for i, r := range a[1:] {
			switch {
			case strings.ContainsRune(valued, r):
				value := a[1+i+len(string(r)):]
				if value == "" {
					if len(c.args) == 0 {
						c.fail("-%c needs a value", r)
						return nil, false
					}
					value, c.args = c.args[0], c.args[1:]
				}
				on[r] = value
			case strings.ContainsRune(letters, r):
				on[r] = "yes"
				continue
			default:
				c.fail("there is no -%c here", r)
				return nil, false
			}
			break
		}
	}
	return on, true
}

// texts are the files that the arguments name, or what is poured in.
func (c *call) texts() ([][]byte, bool) {
	if len(c.args) == 0 || len(c.args) == 1 && c.args[0] == "-" {
		text, err := c.all()
		if err != nil {
			c.failed(err)
			return nil, false
		}
		return [][]byte{text}, true
	}
	var out [][]byte
	for _, p := range c.args {
		text, err := c.s.disk.read(c.at(p))
		if err != nil {
			c.failed(err)
			return nil, false
		}
		out = append(out, text)
	}
	return out, true
}

// all is what is poured in, as a whole.
func (c *call) all() ([]byte, error) {
	if c.in == nil {
		return nil, nil
	}
	text, err := io.ReadAll(io.LimitReader(c.in, c.s.limits.Disk+1))
	if err == nil && int64(len(text)) > c.s.limits.Disk {
		err = errors.New("too much is poured in")
	}
	return text, err
}

func (c *call) lines() ([]string, bool) {
	texts, ok := c.texts()
	var out []string
	for _, t := range texts {
		for line := range strings.Lines(string(t)) {
			out = append(out, strings.TrimSuffix(line, "\n"))
		}
	}
	return out, ok
}

func (c *call) print(lines []string) int {
	w := bufio.NewWriter(c.out)
	for _, l := range lines {
		if _, err := w.WriteString(l + "\n"); err != nil {
			return 1
		}
	}
	if w.Flush() != nil {
		return 1
	}
	return 0
}

func (c *call) each(f func(string) string) int {
	if len(c.args) == 0 {
		return c.usage("PATH")
	}
	fmt.Fprintln(c.out, f(c.args[0]))
	return 0
}

func cat(c *call) int {
	if len(c.args) == 0 && c.in != nil { // as it comes
		if _, err := io.Copy(c.out, c.in); err != nil {
			return 1
		}
		return 0
	}
	texts, ok := c.texts()
	for _, t := range texts {
		if _, err := c.out.Write(t); err != nil {
			return 1
		}
	}
	if !ok {
		return 1
	}
	return 0
}

func ls(c *call) int {
	on, ok := c.flags("la1AR", "")
	if !ok {
		return 2
	}
	if len(c.args) == 0 {
		c.args = []string{"."}
	}
	code := 0
	for _, p := range c.args {
		st, err := c.s.disk.stat(c.at(p))
		if err != nil {
			code = c.failed(err)
			continue
		}
		list := []fs.DirEntry{st.(info)}
		if st.IsDir() {
			if list, err = c.s.disk.list(c.at(p)); err != nil {
				code = c.failed(err)
				continue
			}
		}
		for _, e := range list {
			if strings.HasPrefix(e.Name(), ".") && on['a']+on['A'] == "" && st.IsDir() {
				continue
			}
			if on['l'] == "" {
				fmt.Fprintln(c.out, e.Name())
				continue
			}
			i, _ := e.Info()
			fmt.Fprintf(c.out, "%s %8d %s %s\n", i.Mode(), i.Size(), i.ModTime().UTC().Format("2006-01-02 15:04"), e.Name())
		}
	}
	return code
}

func mkdir(c *call) int {
	on, ok := c.flags("p", "m")
	if !ok || len(c.args) == 0 {
		return c.usage("[-p] FOLDER…")
	}
	for _, p := range c.args {
		if err := c.s.disk.mkdir(c.at(p), on['p'] != ""); err != nil {
			return c.failed(err)
		}
	}
	return 0
}

func rmdir(c *call) int {
	for _, p := range c.args {
		if err := c.s.disk.remove(c.at(p), false); err != nil {
			return c.failed(err)
		}
	}
	return 0
}

func rm(c *call) int {
	on, ok := c.flags("rRf", "")
	if !ok {
		return 2
	}
	code := 0
	for _, p := range c.args {
		st, err := c.s.disk.stat(c.at(p))
		switch {
		case err == nil && st.IsDir() && on['r']+on['R'] == "":
			code = c.fail("%s is a folder", p)
			continue
		case err == nil:
			err = c.s.disk.remove(c.at(p), true)
		}
		if err != nil && !(on['f'] != "" && errors.Is(err, fs.ErrNotExist)) {
			code = c.failed(err)
		}
	}
	return code
}

// into is where something goes: into a folder, under its own name.
func (c *call) into(from, to string) string {
	if st, err := c.s.disk.stat(to); err == nil && st.IsDir() {
		return at(to, path.Base(from))
	}
	return to
}

func cp(c *call) int {
	on, ok := c.flags("rRpaf", "")
	if !ok || len(c.args) < 2 {
		return c.usage("[-r] FROM… TO")
	}
	last := c.at(c.args[len(c.args)-1])
	for _, p := range c.args[:len(c.args)-1] {
		from := c.at(p)
		to := c.into(from, last)
		st, err := c.s.disk.stat(from)
		switch {
		case err != nil:
			return c.failed(err)
		case st.IsDir() && on['r']+on['R']+on['a'] == "":
			return c.fail("%s is a folder", p)
		case strings.HasPrefix(to+"/", from+"/"):
			return c.fail("%s cannot be copied into itself", p)
		}
		if err := c.copy(from, to); err != nil {
			return c.failed(err)
		}
	}
	return 0
}

func (c *call) copy(from, to string) error {
	d := c.s.disk
	d.mu.Lock()
	all := d.below(from)
	d.mu.Unlock()
	for _, p := range all {
		st, err := d.stat(p)
		if err != nil {
			return err
		}
		there := to + strings.TrimPrefix(p, from)
		if st.IsDir() {
			if err := d.mkdir(there, true); err != nil {
				return err
			}
			continue
		}
		text, err := d.read(p)
		if err == nil {
			err = d.put(there, slices.Clone(text), st.Mode())
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func mv(c *call) int {
	if _, ok := c.flags("f", ""); !ok || len(c.args) < 2 {
		return c.usage("FROM… TO")
	}
	last := c.at(c.args[len(c.args)-1])
	for _, p := range c.args[:len(c.args)-1] {
		from := c.at(p)
		to := c.into(from, last)
		if to == from || strings.HasPrefix(to+"/", from+"/") {
			return c.fail("%s cannot go into itself", p)
		}
		err := c.copy(from, to)
		if err == nil {
			err = c.s.disk.remove(from, true)
		}
		if err != nil {
			return c.failed(err)
		}
	}
	return 0
}

func touch(c *call) int {
	for _, p := range c.args {
		text, err := c.s.disk.read(c.at(p))
		if errors.Is(err, fs.ErrNotExist) {
			err = nil
		}
		if err == nil {
			err = c.s.disk.put(c.at(p), text, 0o644)
		}
		if err != nil {
			return c.failed(err)
		}
	}
	return 0
}

func mktemp(c *call) int {
	on, ok := c.flags("d", "")
	if !ok {
		return 2
	}
	p := fmt.Sprintf("/tmp/tmp.%d", c.s.count.Add(1))
	var err error
	if on['d'] != "" {
		err = c.s.disk.mkdir(p, false)
	} else {
		err = c.s.disk.put(p, nil, 0o600)
	}
	if err != nil {
		return c.failed(err)
	}
	fmt.Fprintln(c.out, p)
	return 0
}

func chmod(c *call) int {
	if len(c.args) < 2 {
		return c.usage("MODE FILE…")
	}
	mode, err := strconv.ParseUint(c.args[0], 8, 32)
	for _, p := range c.args[1:] {
		st, e := c.s.disk.stat(c.at(p))
		if e != nil {
			return c.failed(e)
		}
		to := fs.FileMode(mode)
		if err != nil { // +x and such
			bits := map[string]fs.FileMode{"+x": 0o111, "a+x": 0o111, "u+x": 0o100, "+r": 0o444, "u+w": 0o200}[c.args[0]]
			if bits == 0 {
				return c.fail("write the mode as a number such as 755, or +x")
			}
			to = st.Mode() | bits
		}
		if e := c.s.disk.chmod(c.at(p), to); e != nil {
			return c.failed(e)
		}
	}
	return 0
}

func find(c *call) int {
	roots := []string{}
	for len(c.args) > 0 && !strings.HasPrefix(c.args[0], "-") {
		roots, c.args = append(roots, c.args[0]), c.args[1:]
	}
	if len(roots) == 0 {
		roots = []string{"."}
	}
	kind, name := "", "*"
	for len(c.args) > 1 {
		switch c.args[0] {
		case "-type":
			kind = c.args[1]
		case "-name":
			name = c.args[1]
		default:
			return c.fail("there is -type and -name here, and no %s", c.args[0])
		}
		c.args = c.args[2:]
	}
	for _, root := range roots {
		from := c.at(root)
		c.s.disk.mu.Lock()
		all := c.s.disk.below(from)
		c.s.disk.mu.Unlock()
		if len(all) == 0 {
			return c.fail("%s: there is none", root)
		}
		for _, p := range all {
			st, err := c.s.disk.stat(p)
			if err != nil || kind == "f" && st.IsDir() || kind == "d" && !st.IsDir() {
				continue
			}
			if fits, _ := path.Match(name, path.Base(p)); fits {
				fmt.Fprintln(c.out, path.Join(root, strings.TrimPrefix(p, from)))
			}
		}
	}
	return 0
}

// count reads a number of lines, as in -n 3 or -3.
func (c *call) count(usual int) (int, bool) {
	if len(c.args) > 0 && len(c.args[0]) > 1 && c.args[0][0] == '-' {
		if n, err := strconv.Atoi(c.args[0][1:]); err == nil {
			c.args = c.args[1:]
			return n, true
		}
	}
	on, ok := c.flags("", "n")
	if !ok {
		return 0, false
	}
	if on['n'] == "" {
		return usual, true
	}
	n, err := strconv.Atoi(on['n'])
	if err != nil || n < 0 {
		c.fail("%s is no number of lines", on['n'])
		return 0, false
	}
	return n, true
}

func head(c *call) int {
	if len(c.args) > 1 && c.args[0] == "-c" {
		n, err := strconv.Atoi(c.args[1])
		if err != nil || n < 0 {
			return c.fail("%s is no number of bytes", c.args[1])
		}
		c.args = c.args[2:]
		texts, ok := c.texts()
		if !ok {
			return 1
		}
		all := bytes.Join(texts, nil)
		if _, err := c.out.Write(all[:min(n, len(all))]); err != nil {
			return 1
		}
		return 0
	}
	n, ok := c.count(10)
	if !ok {
		return 2
	}
	lines, ok := c.lines()
	if !ok {
		return 1
	}
	return c.print(lines[:min(n, len(lines))])
}

func tail(c *call) int {
	n, ok := c.count(10)
	if !ok {
		return 2
	}
	lines, ok := c.lines()
	if !ok {
		return 1
	}
	return c.print(lines[max(0, len(lines)-n):])
}

func wc(c *call) int {
	on, ok := c.flags("lwc", "")
	if !ok {
		return 2
	}
	texts, ok := c.texts()
	if !ok {
		return 1
	}
	for i, t := range texts {
		var parts []string
		for _, x := range []struct {
			letter rune
			n      int
		}{{'l', bytes.Count(t, []byte("\n"))}, {'w', len(bytes.Fields(t))}, {'c', len(t)}} {
			if len(on) == 0 || on[x.letter] != "" {
				parts = append(parts, strconv.Itoa(x.n))
			}
		}
		if i < len(c.args) {
			parts = append(parts, c.args[i])
		}
		fmt.Fprintln(c.out, strings.Join(parts, " "))
	}
	return 0
}

func grep(c *call) int {
	on, ok := c.flags("ivqcnEFwoxlhsr", "e")
	if !ok {
		return 2
	}
	pattern := on['e']
	if pattern == "" {
		if len(c.args) == 0 {
			return c.usage("[-i -v -q -c -n -E -F -o -x] PATTERN [FILE…]")
		}
		pattern, c.args = c.args[0], c.args[1:]
	}
	switch {
	case on['F'] != "":
		pattern = regexp.QuoteMeta(pattern)
	case on['E'] == "":
		pattern = basic(pattern)
	}
	if on['w'] != "" {
		pattern = `\b(?:` + pattern + `)\b`
	}
	if on['x'] != "" {
		pattern = "^(?:" + pattern + ")$"
	}
	if on['i'] != "" {
		pattern = "(?i)" + pattern
	}
	re, err := regexp.Compile(pattern)
	if err != nil {
		c.failed(err)
		return 2
	}
	lines, ok := c.lines()
	if !ok {
		return 2
	}
	var found []string
	for i, l := range lines {
		if re.MatchString(l) == (on['v'] != "") {
			continue
		}
		prefix := ""
		if on['n'] != "" {
			prefix = strconv.Itoa(i+1) + ":"
		}
		if on['o'] != "" {
			for _, m := range re.FindAllString(l, -1) {
				found = append(found, prefix+m)
			}
			continue
		}
		found = append(found, prefix+l)
	}
	switch {
	case on['q'] != "":
	case on['c'] != "":
		fmt.Fprintln(c.out, len(found))
	default:
		c.print(found)
	}
	if len(found) == 0 {
		return 1
	}
	return 0
}

func sorted(c *call) int {
	on, ok := c.flags("rnu", "")
	if !ok {
		return 2
	}
	lines, ok := c.lines()
	if !ok {
		return 1
	}
	slices.SortStableFunc(lines, func(a, b string) int {
		if on['n'] != "" {
			x, _ := strconv.ParseFloat(strings.TrimSpace(a), 64)
			y, _ := strconv.ParseFloat(strings.TrimSpace(b), 64)
			switch {
			case x < y:
				return -1
			case x > y:
				return 1
			}
		}
		return strings.Compare(a, b)
	})
	if on['u'] != "" {
		lines = slices.Compact(lines)
	}
	if on['r'] != "" {
		slices.Reverse(lines)
	}
	return c.print(lines)
}

func uniq(c *call) int {
	on, ok := c.flags("c", "")
	if !ok {
		return 2
	}
	lines, ok := c.lines()
	if !ok {
		return 1
	}
	var out []string
	for i := 0; i < len(lines); {
		n := i
		for n < len(lines) && lines[n] == lines[i] {
			n++
		}
		if on['c'] != "" {
			out = append(out, fmt.Sprintf("%7d %s", n-i, lines[i]))
		} else {
			out = append(out, lines[i])
		}
		i = n
	}
	return c.print(out)
}

func cut(c *call) int {
	on, ok := c.flags("s", "dfc")
	if !ok || on['f']+on['c'] == "" {
		return c.usage("-d SIGN -f FIELDS | -c COLUMNS [FILE…]")
	}
	lines, ok := c.lines()
	if !ok {
		return 1
	}
	sign := on['d']
	if sign == "" {
		sign = "\t"
	}
	wanted := on['f'] + on['c']
	var out []string
	for _, l := range lines {
		parts := strings.Split(l, sign)
		if on['c'] != "" {
			parts, sign = strings.Split(l, ""), ""
		} else if len(parts) == 1 {
			if on['s'] == "" {
				out = append(out, l)
			}
			continue
		}
		var picked []string
		for _, w := range strings.Split(wanted, ",") {
			from, to, is := strings.Cut(w, "-")
			a, _ := strconv.Atoi(from)
			b := a
			if is {
				if b = len(parts); to != "" {
					b, _ = strconv.Atoi(to)
				}
				a = max(1, a)
			}
			for i := a; i <= min(b, len(parts)); i++ {
				if i > 0 {
					picked = append(picked, parts[i-1])
				}
			}
		}
		out = append(out, strings.Join(picked, sign))
	}
	return c.print(out)
}

// letters spells ranges such as a-z out.
func letters(set string) []rune {
	set = strings.NewReplacer("[:lower:]", "a-z", "[:upper:]", "A-Z", "[:digit:]", "0-9", "[:space:]", " \t\n", `\n`, "\n", `\t`, "\t").Replace(set)
	r := []rune(set)
	var out []rune
	for i := 0; i < len(r); i++ {
		if i+2 < len(r) && r[i+1] == '-' && r[i] <= r[i+2] && r[i+2]-r[i] < 1000 {
			for x := r[i]; x <= r[i+2]; x++ {
				out = append(out, x)
			}
			i += 2
			continue
		}
		out = append(out, r[i])
	}
	return out
}

func tr(c *call) int {
	on, ok := c.flags("ds", "")
	if !ok || len(c.args) == 0 || len(c.args) < 2 && len(on) == 0 {
		return c.usage("[-d -s] LETTERS [LETTERS]")
	}
	from := letters(c.args[0])
	var to []rune
	if len(c.args) > 1 {
		to = letters(c.args[1])
	}
	text, err := c.all()
	if err != nil {
		return c.failed(err)
	}
	var out strings.Builder
	last := rune(-1)
	for _, r := range string(text) {
		i := slices.Index(from, r)
		switch {
		case i >= 0 && on['d'] != "":
			continue
		case i >= 0 && len(to) > 0:
			r = to[min(i, len(to)-1)]
		}
		if on['s'] != "" && i >= 0 && r == last {
			continue
		}
		last = r
		out.WriteRune(r)
	}
	fmt.Fprint(c.out, out.String())
	return 0
}

func tee(c *call) int {
	on, ok := c.flags("a", "")
	if !ok {
		return 2
	}
	text, err := c.all()
	if err != nil {
		return c.failed(err)
	}
	for _, p := range c.args {
		whole := slices.Clone(text)
		if on['a'] != "" {
			if was, err := c.s.disk.read(c.at(p)); err == nil {
				whole = append(slices.Clone(was), text...)
			}
		}
		if err := c.s.disk.put(c.at(p), whole, 0o644); err != nil {
			return c.failed(err)
		}
	}
	if _, err := c.out.Write(text); err != nil {
		return 1
	}
	return 0
}

func date(c *call) int {
	now := time.Now().UTC()
	if len(c.args) > 0 && c.args[0] == "-u" {
		c.args = c.args[1:]
	}
	if len(c.args) == 0 {
		fmt.Fprintln(c.out, now.Format(time.RFC1123))
		return 0
	}
	form, ok := strings.CutPrefix(c.args[0], "+")
	if !ok {
		return c.usage("[+FORMAT], with %Y %m %d %H %M %S %s %F %T")
	}
	fmt.Fprintln(c.out, strings.NewReplacer("%Y", now.Format("2006"), "%m", now.Format("01"), "%d", now.Format("02"), "%H", now.Format("15"),
		"%M", now.Format("04"), "%S", now.Format("05"), "%s", strconv.FormatInt(now.Unix(), 10), "%F", now.Format("2006-01-02"),
		"%T", now.Format("15:04:05"), "%%", "%").Replace(form))
	return 0
}

func sleep(c *call) int {
	total := time.Duration(0)
	for _, a := range c.args {
		if _, err := strconv.ParseFloat(a, 64); err == nil {
			a += "s"
		}
		d, err := time.ParseDuration(a)
		if err != nil || d < 0 {
			return c.fail("%s is no time", a)
		}
		total += d
	}
	if c.s.sleep(c.ctx, total) != nil {
		return 1
	}
	return 0
}

func seq(c *call) int {
	from, step, to := 1, 1, 0
	var n []int
	for _, a := range c.args {
		x, err := strconv.Atoi(a)
		if err != nil {
			return c.fail("%s is no number", a)
		}
		n = append(n, x)
	}
	switch len(n) {
	case 1:
		to = n[0]
	case 2:
		from, to = n[0], n[1]
	case 3:
		from, step, to = n[0], n[1], n[2]
	}
	if len(n) == 0 || len(n) > 3 || step == 0 {
		return c.usage("[FROM [STEP]] TO")
	}
	w := bufio.NewWriter(c.out)
	for i := from; step > 0 && i <= to || step < 0 && i >= to; i += step {
		if c.ctx.Err() != nil {
			return 1
		}
		if _, err := fmt.Fprintln(w, i); err != nil {
			return 1
		}
	}
	if w.Flush() != nil {
		return 1
	}
	return 0
}

func env(c *call) int {
	if len(c.args) > 0 {
		return c.fail("it prints the environment, and runs nothing")
	}
	var out []string
	for k, v := range c.environ {
		out = append(out, k+"="+v)
	}
	slices.Sort(out)
	return c.print(out)
}

func hostname(c *call) int {
	fmt.Fprintln(c.out, c.s.req.Server)
	return 0
}

func df(c *call) int {
	c.s.disk.mu.Lock()
	defer c.s.disk.mu.Unlock()
	fmt.Fprintf(c.out, "%d of %d bytes, %d of %d files\n", c.s.disk.size, c.s.limits.Disk, len(c.s.disk.files), c.s.limits.Files)
	return 0
}

func base64Command(c *call) int {
	on, ok := c.flags("d", "w")
	if !ok {
		return 2
	}
	texts, ok := c.texts()
	if !ok {
		return 1
	}
	text := bytes.Join(texts, nil)
	if on['d'] == "" {
		fmt.Fprintln(c.out, base64.StdEncoding.EncodeToString(text))
		return 0
	}
	clear, err := base64.StdEncoding.DecodeString(string(bytes.Join(bytes.Fields(text), nil)))
	if err != nil {
		return c.failed(err)
	}
	if _, err := c.out.Write(clear); err != nil {
		return 1
	}
	return 0
}

func sha256sum(c *call) int {
	texts, ok := c.texts()
	if !ok {
		return 1
	}
	for i, t := range texts {
		name := "-"
		if i < len(c.args) {
			name = c.args[i]
		}
		sum := sha256.Sum256(t)
		fmt.Fprintf(c.out, "%s  %s\n", hex.EncodeToString(sum[:]), name)
	}
	return 0
}

// yamlCommand turns YAML into JSON.
func yamlCommand(c *call) int {
	texts, ok := c.texts()
	if !ok {
		return 1
	}
	for _, text := range texts {
		var v any
		if err := yaml.Unmarshal(text, &v); err != nil {
			return c.failed(err)
		}
		out, err := json.Marshal(v)
		if err != nil {
			return c.failed(err)
		}
		fmt.Fprintln(c.out, string(out))
	}
	return 0
}

func jq(c *call) int {
	raw, none, compact := false, false, false
	vars, values := []string{}, []any{}
	for len(c.args) > 0 && strings.HasPrefix(c.args[0], "-") {
		switch a := c.args[0]; {
		case a == "-r":
			raw = true
		case a == "-n":
			none = true
		case a == "-c":
			compact = true
		case a == "-rc" || a == "-cr":
			raw, compact = true, true
		case (a == "--arg" || a == "--argjson") && len(c.args) > 2:
			var v any = c.args[2]
			if a == "--argjson" {
				if err := json.Unmarshal([]byte(c.args[2]), &v); err != nil {
					return c.failed(err)
				}
			}
			vars, values = append(vars, "$"+c.args[1]), append(values, v)
			c.args = c.args[2:]
		default:
			return c.fail("there is -r, -n, -c, --arg and --argjson here, and no %s", a)
		}
		c.args = c.args[1:]
	}
	if len(c.args) == 0 {
		return c.usage("[-r -n -c] FILTER [FILE…]")
	}
	q, err := gojq.Parse(c.args[0])
	if err != nil {
		return c.failed(err)
	}
	code, err := gojq.Compile(q, gojq.WithVariables(vars), gojq.WithEnvironLoader(func() []string { return nil }))
	if err != nil {
		return c.failed(err)
	}
	c.args = c.args[1:]
	inputs := []any{nil}
	if !none {
		texts, ok := c.texts()
		if !ok {
			return 1
		}
		inputs = nil
		d := json.NewDecoder(bytes.NewReader(bytes.Join(texts, []byte("\n"))))
		for {
			var v any
			if err := d.Decode(&v); errors.Is(err, io.EOF) {
				break
			} else if err != nil {
				return c.failed(err)
			}
			inputs = append(inputs, v)
		}
	}
	for _, v := range inputs {
		for it := code.RunWithContext(c.ctx, v, values...); ; {
			x, more := it.Next()
			if !more {
				break
			}
			if err, is := x.(error); is {
				return c.failed(err)
			}
			if s, is := x.(string); is && raw {
				fmt.Fprintln(c.out, s)
				continue
			}
			text, err := gojq.Marshal(x)
			if err != nil {
				return c.failed(err)
			}
			if !compact {
				var b bytes.Buffer
				if json.Indent(&b, text, "", "  ") == nil {
					text = b.Bytes()
				}
			}
			fmt.Fprintln(c.out, string(text))
		}
	}
	return 0
}

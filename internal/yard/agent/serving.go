package agent

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strconv"
	"strings"
	"time"
)

// Where the services of a server, its packages and its log are.
const (
	servicesDir = "/run/services"
	packagesDir = "/var/lib/packages"
	logFile     = "/var/log/messages"
	cronFile    = "/var/spool/cron/root"
)

// Service is what listens on a server.
type Service struct {
	Name   string
	Port   int    // 0 is that it listens on none
	Folder string // the files that it answers with
}

// Services are those that run on a server, by what is in its files.
func (f Files) Services() []Service {
	var out []Service
	for p, file := range f {
		if path.Dir(p) != servicesDir || fs.FileMode(file.Mode).IsDir() {
			continue
		}
		s := Service{Name: path.Base(p)}
		words := strings.SplitN(strings.TrimSpace(string(file.Text)), " ", 2)
		s.Port, _ = strconv.Atoi(words[0])
		if len(words) > 1 {
			s.Folder = words[1]
		}
		out = append(out, s)
	}
	return out
}

// note writes a line into the log of the server.
func (s *script) note(who, text string) error {
	was, err := s.disk.read(logFile)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	line := fmt.Sprintf("%s %s %s: %s\n", time.Now().UTC().Format("2006-01-02T15:04:05Z"), s.req.Server, who, text)
	return s.disk.put(logFile, append(append([]byte{}, was...), line...), 0o644)
}

func logger(c *call) int {
	on, ok := c.flags("", "t")
	if !ok {
		return 2
	}
	text := strings.Join(c.args, " ")
	if len(c.args) == 0 {
		in, err := c.all()
		if err != nil {
			return c.failed(err)
		}
		text = strings.TrimSpace(string(in))
	}
	who := on['t']
	if who == "" {
		who = "script"
	}
	if err := c.s.note(who, text); err != nil {
		return c.failed(err)
	}
	return 0
}

// service lets something run on the server, or end: with a port it listens there, and answers
// with the files of a folder.
func service(c *call) int {
	const words = "NAME start [PORT [FOLDER]] | stop | restart | status"
	if len(c.args) < 2 {
		return c.usage(words)
	}
	name, verb := c.args[0], c.args[1]
	if strings.ContainsAny(name, "/ ") || name == "." || name == ".." {
		return c.fail("'%s' can be no service", name)
	}
	file := servicesDir + "/" + name
	_, err := c.s.disk.stat(file)
	runs := err == nil
	switch verb {
	case "start", "restart":
		if runs && len(c.args) == 2 {
			break
		}
		port, folder := "0", ""
		if len(c.args) > 2 {
			port = c.args[2]
			if n, err := strconv.Atoi(port); err != nil || n < 0 || n > 65535 {
				return c.fail("%s is no port", port)
			}
		}
		if len(c.args) > 3 {
			folder = c.at(c.args[3])
			if st, err := c.s.disk.stat(folder); err != nil || !st.IsDir() {
				return c.fail("%s is no folder", folder)
			}
		}
		err := c.s.disk.mkdir(servicesDir, true)
		if err == nil {
			err = c.s.disk.put(file, []byte(port+" "+folder+"\n"), 0o644)
		}
		if err == nil {
			err = c.s.note(name, "started")
		}
		if err != nil {
			return c.failed(err)
		}
	case "stop":
		if !runs {
			return 0
		}
		if err := errors.Join(c.s.disk.remove(file, false), c.s.note(name, "stopped")); err != nil {
			return c.failed(err)
		}
	case "status":
		if !runs {
			fmt.Fprintf(c.out, "%s is stopped\n", name)
			return 3
		}
		fmt.Fprintf(c.out, "%s runs\n", name)
	default:
		return c.usage(words)
	}
	return 0
}

// packages keeps which packages are there.
func packages(c *call) int {
	const words = "install NAME… | remove NAME… | list"
	if len(c.args) == 0 {
		return c.usage(words)
	}
	if err := c.s.disk.mkdir(packagesDir, true); err != nil {
		return c.failed(err)
	}
	switch verb := c.args[0]; verb {
	case "list":
		list, err := c.s.disk.list(packagesDir)
		if err != nil {
			return c.failed(err)
		}
		for _, e := range list {
			fmt.Fprintln(c.out, e.Name())
		}
	case "install", "remove":
		for _, name := range c.args[1:] {
			file := packagesDir + "/" + path.Base(name)
			_, err := c.s.disk.stat(file)
			there := err == nil
			switch {
			case path.Base(name) != name || name == "." || name == "..":
				return c.fail("there is no package '%s'", name)
			case verb == "install" && !there:
				if err := errors.Join(c.s.disk.put(file, nil, 0o644), c.s.note("package", "installed "+name)); err != nil {
					return c.failed(err)
				}
				fmt.Fprintf(c.out, "installed %s\n", name)
			case verb == "remove" && there:
				if err := errors.Join(c.s.disk.remove(file, false), c.s.note("package", "removed "+name)); err != nil {
					return c.failed(err)
				}
				fmt.Fprintf(c.out, "removed %s\n", name)
			}
		}
	default:
		return c.usage(words)
	}
	return 0
}

func crontab(c *call) int {
	if len(c.args) != 1 {
		return c.usage("FILE | - | -l | -r")
	}
	switch c.args[0] {
	case "-l":
		text, err := c.s.disk.read(cronFile)
		if err != nil {
			return c.fail("there is none")
		}
		_, _ = c.out.Write(text)
		return 0
	case "-r":
		if err := c.s.disk.remove(cronFile, false); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return c.failed(err)
		}
		return 0
	}
	texts, ok := c.texts()
	if !ok {
		return 1
	}
	for line := range strings.Lines(string(texts[0])) {
		if line = strings.TrimSpace(line); line != "" && line[0] != '#' && len(strings.Fields(line)) < 6 {
			return c.fail("'%s' is no entry: minute, hour, day, month, weekday, command", line)
		}
	}
	err := c.s.disk.mkdir(path.Dir(cronFile), true)
	if err == nil {
		err = c.s.disk.put(cronFile, append([]byte{}, texts[0]...), 0o600)
	}
	if err != nil {
		return c.failed(err)
	}
	return 0
}

// result gives an output of the operation.
func result(c *call) int {
	if len(c.args) == 0 || len(c.args) > 2 {
		return c.usage("NAME VALUE, or … | result NAME")
	}
	value := ""
	if len(c.args) == 2 {
		value = c.args[1]
	} else {
		text, err := c.all()
		if err != nil {
			return c.failed(err)
		}
		value = strings.TrimSuffix(string(text), "\n")
	}
	if err := c.s.setResult(c.args[0], value); err != nil {
		return c.failed(err)
	}
	return 0
}

// curl asks an address of the same cloud; there is no other network.
func curl(c *call) int {
	method, url, body, out := "GET", "", "", ""
	fails, silent := false, false
	var headers []string
	for len(c.args) > 0 {
		a := c.args[0]
		c.args = c.args[1:]
		if len(a) > 1 && a[0] == '-' {
			valued := map[string]*string{"-X": &method, "--request": &method, "-d": &body, "--data": &body, "-o": &out, "--output": &out, "--url": &url}
			switch p := valued[a]; {
			case p != nil || a == "-H" || a == "--header" || a == "-m" || a == "--max-time":
				if len(c.args) == 0 {
					return c.fail("%s needs a value", a)
				}
				if p != nil {
					*p = c.args[0]
				} else if a == "-H" || a == "--header" {
					headers = append(headers, c.args[0])
				}
				if p == &body && method == "GET" {
					method = "POST"
				}
				c.args = c.args[1:]
			case a == "--fail":
				fails = true
			case a == "--silent":
				silent = true
			case a[1] != '-' && strings.Trim(a[1:], "sSfLk") == "":
				fails, silent = fails || strings.ContainsRune(a, 'f'), silent || strings.ContainsRune(a, 's')
			default:
				return c.fail("there is no %s here", a)
			}
			continue
		}
		url = a
	}
	if url == "" {
		return c.usage("[-s -f] [-X METHOD] [-d BODY] [-H HEADER] [-o FILE] URL")
	}
	status, text, err := c.s.ask(c.ctx, Ask{Method: method, URL: url, Headers: headers, Body: body})
	switch {
	case err != nil:
		if !silent {
			c.failed(err)
		}
		return 7
	case fails && status >= 400:
		if !silent {
			c.fail("the answer was %d", status)
		}
		return 22
	case out != "":
		if err := c.s.disk.put(c.at(out), []byte(text), 0o644); err != nil {
			c.failed(err)
			return 23
		}
		return 0
	}
	fmt.Fprint(c.out, text)
	return 0
}

package agent

import (
	"fmt"
	"slices"
	"strings"
)

// Commands that scripts call out of habit: they say what is so on a server of one user, root.

func everyday() map[string]func(*call) int {
	return map[string]func(*call) int{
		"chown": owned, "chgrp": owned, "id": id, "kill": kill, "ln": link, "nl": numbered, "pidof": func(*call) int { return 1 }, "sync": func(*call) int { return 0 },
		"tac": reversed, "uname": uname, "which": which, "whoami": func(c *call) int { fmt.Fprintln(c.out, "root"); return 0 },
	}
}

// replaced are builtins of shells that mean nothing here, by what stands for them.
func replaced(args []string) []string {
	switch {
	case args[0] == "umask" || args[0] == "ulimit":
		return []string{"true"}
	case args[0] == "kill":
		return append([]string{"/bin/kill"}, args[1:]...)
	case args[0] == "command" && len(args) > 2 && args[1] == "-p":
		return args[2:]
	}
	return args
}

// owned is chown and chgrp: all belongs to root.
func owned(c *call) int {
	if _, ok := c.flags("Rhvf", ""); !ok || len(c.args) < 2 {
		return c.usage("[-R] OWNER FILE…")
	}
	for _, p := range c.args[1:] {
		if _, err := c.s.disk.stat(c.at(p)); err != nil {
			return c.failed(err)
		}
	}
	return 0
}

func id(c *call) int {
	on, ok := c.flags("ungG", "")
	if !ok {
		return 2
	}
	_, u := on['u']
	_, g := on['g']
	_, n := on['n']
	switch {
	case (u || g) && n:
		fmt.Fprintln(c.out, "root")
	case u || g:
		fmt.Fprintln(c.out, "0")
	default:
		fmt.Fprintln(c.out, "uid=0(root) gid=0(root) groups=0(root)")
	}
	return 0
}

func kill(c *call) int {
	return c.fail("there is no such process; a service is ended with service NAME stop")
}

// link is ln: there are no links here, so it copies, and says so.
func link(c *call) int {
	if _, ok := c.flags("sfnvT", ""); !ok || len(c.args) != 2 {
		return c.usage("[-s] FROM TO")
	}
	from := c.args[0]
	if !strings.HasPrefix(from, "/") { // it is meant from where the link is
		from = at(at(c.at(c.args[1]), ".."), from)
	}
	to := c.into(from, c.at(c.args[1]))
	if _, err := c.s.disk.stat(from); err != nil {
		return c.failed(err)
	}
	fmt.Fprintf(c.err, "ln: there are no links here: %s is a copy\n", to)
	if err := c.copy(from, to); err != nil {
		return c.failed(err)
	}
	return 0
}

func numbered(c *call) int {
	lines, ok := c.lines()
	if !ok {
		return 1
	}
	for i, l := range lines {
		fmt.Fprintf(c.out, "%6d\t%s\n", i+1, l)
	}
	return 0
}

func reversed(c *call) int {
	lines, ok := c.lines()
	if !ok {
		return 1
	}
	slices.Reverse(lines)
	return c.print(lines)
}

func uname(c *call) int {
	on, ok := c.flags("asnrm", "")
	if !ok {
		return 2
	}
	parts := []struct {
		flag rune
		text string
	}{{'s', "Linux"}, {'n', c.s.req.Server}, {'r', "yard"}, {'m', "x86_64"}}
	_, all := on['a']
	var words []string
	for _, p := range parts {
		if _, is := on[p.flag]; is || all || len(on) == 0 && p.flag == 's' {
			words = append(words, p.text)
		}
	}
	fmt.Fprintln(c.out, strings.Join(words, " "))
	return 0
}

func which(c *call) int {
	code := 0
	for _, name := range c.args {
		if commands[name] == nil {
			code = 1
			continue
		}
		fmt.Fprintln(c.out, "/bin/"+name)
	}
	return code
}

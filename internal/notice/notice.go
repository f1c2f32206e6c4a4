// Package notice tells somebody who looks elsewhere, by way of the terminal.
package notice

import (
	"fmt"
	"strings"

	"brickrow/internal/cloud"
)

// How is how somebody is told.
type How string

// The ways to be told.
const (
	Desktop How = "desktop" // by the desktop where the terminal can, and by the bell
	Bell    How = "bell"
	None    How = "none"
)

// Parse reads a way to be told; "" is Desktop.
func Parse(text string) (How, error) {
	switch h := How(text); h {
	case "":
		return Desktop, nil
	case Desktop, Bell, None:
		return h, nil
	}
	return "", fmt.Errorf("a notice is desktop, bell or none, not '%s'", text)
}

// Text is what a terminal has to be sent. The two sequences are those that terminals know
// for it, OSC 9 and OSC 777; one that knows neither shows nothing.
func Text(how How, title, body string) string {
	switch how {
	case Bell:
		return "\a"
	case None:
		return ""
	}
	title = strings.ReplaceAll(plain(title), ";", ",") // which separates
	body = plain(body)
	return "\a\x1b]9;" + title + ": " + body + "\x1b\\\x1b]777;notify;" + title + ";" + body + "\x1b\\"
}

// most is how long a notice is, in letters.
const most = 200

// plain is a text in one line, without what a terminal takes for a command.
func plain(text string) string {
	text = strings.Join(strings.Fields(cloud.Clean(text)), " ")
	if r := []rune(text); len(r) > most {
		text = string(r[:most-1]) + "…"
	}
	return text
}

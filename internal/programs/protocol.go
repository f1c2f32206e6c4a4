// Package programs lets small programs be the cloud of a team's own resource types: it calls
// them, by a protocol of one JSON object in and lines of JSON out, and shows what they keep as
// resources like others. docs/own-types.md tells how such programs are written.
package programs

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"brickrow/internal/cloud"
	"brickrow/internal/stack"
)

// The operations of a program. An action is called by its own operation.
const (
	opCreate = "create"
	opRead   = "read"
	opUpdate = "update"
	opDelete = "delete"
	opPlan   = "plan"
	opList   = "list"
	opAction = "action"
)

// Program is what carries out an operation.
type Program struct {
	File        string `json:"file"`                  // as the template names it
	Interpreter string `json:"interpreter,omitempty"` // what it is given to; "" is that it runs by itself
	Text        string `json:"text,omitempty"`        // all of it, where that is short
	Digest      string `json:"digest"`                // of all of it: sha256, in hexadecimal
	// With are the digests of the files that it depends on, by the names by which the template calls them.
	With   map[string]string `json:"with,omitempty"`
	Folder string            `json:"folder,omitempty"` // where the file was, from / on; it runs there
	TimeMS int64             `json:"time_ms"`          // how long a call may take
	AtOnce int               `json:"at_once"`          // how many calls of its type run at once, at most
}

// call is what a program is given, on its standard input.
type call struct {
	API int `json:"api"`
	// Connection is that through which the resource is to be reached, where its node says so.
	Connection *Connection    `json:"connection,omitempty"`
	Operation  string         `json:"operation"`
	Key        string         `json:"key"`
	Stack      string         `json:"stack"`
	Node       string         `json:"node"`
	Target     stack.Target   `json:"target"`
	Type       string         `json:"type"`
	ID         string         `json:"id"`
	Properties map[string]any `json:"properties"`
	Previous   map[string]any `json:"previous"`
	Attributes map[string]any `json:"attributes"`
	Action     string         `json:"action"`
	Inputs     map[string]any `json:"inputs"`
}

// Connection is how something else is reached: the properties of a connection, secrets in clear.
type Connection struct {
	Type       string         `json:"type"`
	Properties map[string]any `json:"properties"`
	Secrets    []string       `json:"-"` // the texts of those that are secret
}

// Step is how far a program says that it is.
type Step struct {
	Step   string `json:"step"`
	Number int    `json:"number"`
	Of     int    `json:"of"`
}

// Answer is what a program answers with.
type Answer struct {
	ID               *string        `json:"id,omitempty"`
	Properties       map[string]any `json:"properties,omitempty"`
	Attributes       map[string]any `json:"attributes,omitempty"`
	SecretAttributes []string       `json:"secret_attributes,omitempty"`
	Gone             bool           `json:"gone,omitempty"`
	Problem          *cloud.Problem `json:"problem,omitempty"`
	Plan             string         `json:"plan,omitempty"` // in_place, swap, drop_first
	Because          []string       `json:"because,omitempty"`
	Items            []Answer       `json:"items,omitempty"` // of list
}

const (
	// mostAnswer is how much a program may print, in bytes.
	mostAnswer = 8 << 20
	mostSteps  = 10_000
)

// lines takes what a program prints apart, as it comes: steps are told, and one answer is kept.
type lines struct {
	rest   []byte
	total  int
	steps  int
	answer *Answer
	wrong  error
	told   func(Step)
}

func (l *lines) Write(b []byte) (int, error) {
	if l.total += len(b); l.total > mostAnswer {
		l.fault("it printed more than %d MiB", mostAnswer>>20)
		return len(b), nil
	}
	l.rest = append(l.rest, b...)
	for {
		i := bytes.IndexByte(l.rest, '\n')
		if i < 0 {
			return len(b), nil
		}
		l.line(l.rest[:i])
		l.rest = l.rest[i+1:]
	}
}

func (l *lines) fault(format string, args ...any) {
	if l.wrong == nil {
		l.wrong = fmt.Errorf(format, args...)
	}
}

func (l *lines) line(text []byte) {
	text = bytes.TrimSpace(text)
	if len(text) == 0 || l.wrong != nil {
		return
	}
	if l.answer != nil {
		l.fault("it printed something after its answer: %s", shortly(text))
		return
	}
	var keys map[string]json.RawMessage
	if err := json.Unmarshal(text, &keys); err != nil {
		l.fault("it printed something that is not a JSON object: %s", shortly(text))
		return
	}
	if _, step := keys["step"]; step {
		var s Step
		if l.steps++; l.steps > mostSteps {
			l.fault("it told more than %d steps", mostSteps)
		} else if err := strictly(text, &s); err != nil {
			l.fault("it printed a step that cannot be read: %v", err)
		} else if l.told != nil {
			s.Step = cloud.Clean(s.Step)
			l.told(s)
		}
		return
	}
	a := &Answer{}
	var err error
	if raw, is := keys["problem"]; is && len(keys) == 1 && raw[0] == '{' { // RFC 9457: members that are not known are ignored
		a.Problem = &cloud.Problem{}
		err = json.Unmarshal(raw, a.Problem)
	} else {
		err = strictly(text, a)
	}
	if err != nil {
		l.fault("it printed an answer that cannot be read: %v", err)
		return
	}
	l.answer = a
}

func strictly(text []byte, into any) error {
	d := json.NewDecoder(bytes.NewReader(text))
	d.DisallowUnknownFields()
	d.UseNumber()
	if err := d.Decode(into); err != nil {
		return err
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return errors.New("something follows it on the same line")
	}
	return nil
}

func shortly(text []byte) string {
	s := strings.ToValidUTF8(string(text), "·")
	if len(s) > 120 {
		s = strings.ToValidUTF8(s[:120], "") + " …"
	}
	return s
}

// outcome is how a call ended.
type outcome struct {
	Answer *Answer `json:"answer,omitempty"`
	Wrong  string  `json:"wrong,omitempty"` // what is not as the protocol says; "" is nothing
	Errors string  `json:"errors,omitempty"`
	Exit   int     `json:"exit"`
	Lost   bool    `json:"lost,omitempty"` // it was begun, and nobody knows how it ended
}

// fits says what is wrong with an answer to an operation; "" is nothing.
func (a *Answer) fits(operation string) string {
	switch {
	case a.Problem != nil:
		if a.Problem.Title == "" && a.Problem.Detail == "" {
			return "its problem says neither title nor detail"
		}
		return ""
	case a.Gone && (operation == opDelete || operation == opRead):
		return ""
	case a.Gone:
		return "gone is no answer to " + operation
	case operation == opDelete:
		return "it answered delete with something else than {\"gone\":true}"
	case operation == opPlan:
		if a.Plan != "in_place" && a.Plan != "swap" && a.Plan != "drop_first" {
			return "it answered plan with '" + a.Plan + "', which is none of in_place, swap, drop_first"
		}
		return ""
	case operation == opList:
		return ""
	case a.ID == nil || *a.ID == "":
		return "its answer has no id"
	case len(*a.ID) > 400 || strings.ContainsAny(*a.ID, "\n\r\x00"):
		return "its id is too long, or of several lines"
	}
	return ""
}

// problem is a failed call in the words of a cloud.
func (o *outcome) problem(what string) *cloud.Problem {
	if o.Wrong == "" && o.Answer != nil && o.Answer.Problem != nil {
		p := *o.Answer.Problem
		if p.Detail == "" {
			p.Detail = p.Title
		}
		if p.Title == "" {
			p.Title = "refused"
		}
		if p.Type == "" {
			p.Type = "program"
		}
		if p.Status == 0 {
			p.Status = http.StatusUnprocessableEntity
		}
		return &p
	}
	detail := what + ": " + o.Wrong
	if last := lastLines(o.Errors, 3); last != "" {
		detail += "; it said: " + last
	}
	return &cloud.Problem{Type: "program-failed", Title: "a program failed", Status: http.StatusBadGateway, Detail: detail,
		Fix: "mend the program; 'brickrow type test' shows what is not as the protocol says"}
}

func lastLines(text string, n int) string {
	all := strings.Split(strings.TrimSpace(text), "\n")
	return strings.TrimSpace(strings.Join(all[max(0, len(all)-n):], " / "))
}

// time and places where a type says nothing.
const (
	usualTime   = 60 * time.Second
	usualAtOnce = 4
)

// Digest is what a program is told by: sha256 of all of it, in hexadecimal.
func Digest(text []byte) string {
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}

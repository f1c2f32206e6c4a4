// Package printed keeps what a script or a program prints: the beginning and the end, of any
// length, without its secrets.
package printed

import (
	"bytes"
	"fmt"
	"strings"
	"sync"

	"brickrow/internal/tosca"
)

const (
	// Most is how much is kept, and first how much of that is the beginning, in bytes.
	Most  = 64 << 10
	first = 16 << 10
)

// Text is what is kept of what is written to it.
type Text struct {
	mu      sync.Mutex
	secrets *tosca.Secrets
	margin  int // so much more, that a secret at a cut is seen whole
	head    []byte
	tail    []byte
	total   int64
}

// New keeps what is written without some secrets.
func New(secrets *tosca.Secrets) *Text {
	return &Text{secrets: secrets, margin: min(Most, secrets.Longest())}
}

// Write keeps what there is room for.
func (k *Text) Write(b []byte) (int, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	n := len(b)
	k.total += int64(n)
	if room := Most + k.margin - len(k.head); room > 0 {
		k.head = append(k.head, b[:min(room, len(b))]...)
	}
	k.tail = append(k.tail, b...)
	if most := Most + k.margin; len(k.tail) > 2*most {
		k.tail = append([]byte(nil), k.tail[len(k.tail)-most:]...)
	}
	return n, nil
}

// Raw is the text with its secrets, as long as nothing of it was left out.
func (k *Text) Raw() string {
	k.mu.Lock()
	defer k.mu.Unlock()
	return string(k.head)
}

// All is what is kept, without its secrets. What was left out is said.
func (k *Text) All() string {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.text(k.total, k.head, k.tail)
}

// SoFar is all up to the last line that has ended: one that has not may hold a part of a secret.
func (k *Text) SoFar() string {
	k.mu.Lock()
	defer k.mu.Unlock()
	rest := k.tail[bytes.LastIndexByte(k.tail, '\n')+1:]
	if len(rest) == len(k.tail) {
		rest = k.tail
	}
	head := k.head
	if k.total <= int64(len(head)) {
		head = head[:len(head)-min(len(rest), len(head))]
	}
	return k.text(k.total-int64(len(rest)), head, k.tail[:len(k.tail)-len(rest)])
}

func (k *Text) text(total int64, head, tail []byte) string {
	if total <= Most {
		return readable(k.secrets.Hide(string(head)))
	}
	begin := k.secrets.Hide(string(head[:min(len(head), first+k.margin)]))
	end := k.secrets.Hide(string(tail[max(0, len(tail)-(Most-first)-k.margin):]))
	// At a cut there may be a part of a secret, which nobody has found: it goes.
	begin, end = begin[:max(0, len(begin)-k.margin)], end[min(len(end), k.margin):]
	begin, end = begin[:min(len(begin), first)], end[max(0, len(end)-(Most-first)):]
	return readable(begin) + leftOut(total-int64(len(begin)+len(end))) + readable(end)
}

func leftOut(n int64) string { return fmt.Sprintf("\n… %d bytes are left out here …\n", n) }

// readable is a text as JSON and terminals can carry it.
func readable(text string) string { return strings.ToValidUTF8(text, "·") }

// Cut keeps so much of a text as is kept of what a script prints.
func Cut(text string) string {
	if len(text) <= Most+200 {
		return text
	}
	return readable(text[:first]) + leftOut(int64(len(text)-Most)) + readable(text[len(text)-(Most-first):])
}

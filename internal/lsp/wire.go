package lsp

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"sync"

	"github.com/sourcegraph/jsonrpc2"
)

// maxMessage is how long a message may be.
const maxMessage = 64 << 20

// wire reads and writes messages with their headers. What is no message is answered,
// or passed over, and the next one is looked for: nothing on the wire ends a session
// but its end.
type wire struct {
	in  *bufio.Reader
	out io.Writer
	mu  sync.Mutex // of out
}

func newWire(in io.Reader, out io.Writer) *wire {
	return &wire{in: bufio.NewReaderSize(in, 64<<10), out: out}
}

// WriteObject writes a message.
func (w *wire) WriteObject(message any) error {
	body, err := json.Marshal(message)
	if err != nil {
		return err
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	_, err = fmt.Fprintf(w.out, "Content-Length: %d\r\n\r\n%s", len(body), body)
	return err
}

// ReadObject reads the next message. Its error is io.EOF at the end.
func (w *wire) ReadObject(message any) error {
	for {
		body, err := w.frame()
		if err != nil {
			return err
		}
		if !json.Valid(body) {
			err = w.refuse(jsonrpc2.CodeParseError, "this is not JSON")
		} else if json.Unmarshal(body, message) == nil {
			return nil
		} else {
			err = w.refuse(jsonrpc2.CodeInvalidRequest, "this is neither a request nor an answer")
		}
		if err != nil {
			return err
		}
	}
}

// refuse answers a message of which not even the id is known.
func (w *wire) refuse(code int64, message string) error {
	return w.WriteObject(map[string]any{"jsonrpc": "2.0", "id": nil,
		"error": map[string]any{"code": code, "message": message}})
}

// frame reads the headers of a message, and its body.
func (w *wire) frame() ([]byte, error) {
	length := -1
	for {
		line, err := w.line()
		if err != nil {
			return nil, err
		}
		name, value, _ := strings.Cut(line, ":")
		switch {
		case strings.EqualFold(strings.TrimSpace(name), "Content-Length"):
			length, err = strconv.Atoi(strings.TrimSpace(value))
			if err == nil && length >= 0 && length <= maxMessage {
				continue
			}
			length = -1
			if err := w.refuse(jsonrpc2.CodeInvalidRequest, "Content-Length is no number of bytes that can be read"); err != nil {
				return nil, err
			}
		case line == "" && length >= 0:
			body := make([]byte, length)
			if _, err := io.ReadFull(w.in, body); err != nil {
				return nil, io.EOF
			}
			return body, nil
		}
	}
}

// line reads a line of the headers, without its end. Of a very long one the beginning
// is kept.
func (w *wire) line() (string, error) {
	var out []byte
	for {
		part, err := w.in.ReadSlice('\n')
		if len(out) < 1024 {
			out = append(out, part[:min(len(part), 1024)]...)
		}
		switch {
		case errors.Is(err, bufio.ErrBufferFull):
			continue
		case err != nil:
			return "", io.EOF
		}
		return strings.TrimRight(string(out), "\r\n"), nil
	}
}

// Close does nothing: the streams belong to who opened them.
func (w *wire) Close() error { return nil }

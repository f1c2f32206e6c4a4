package yard

import (
	"bytes"
	"errors"
	"io"
	"net/http"
	"strings"
	"sync"
)

// Transport serves requests with a handler in this process, without a port.
type Transport struct{ Handler http.Handler }

// RoundTrip answers the request.
func (t Transport) RoundTrip(req *http.Request) (*http.Response, error) {
	if req.Body != nil {
		defer req.Body.Close()
	} else {
		req = req.Clone(req.Context())
		req.Body = http.NoBody
	}
	if strings.HasSuffix(req.URL.Path, "/feed") {
		return t.flow(req)
	}
	w := &answer{header: http.Header{}, status: http.StatusOK}
	if err := serve(t.Handler, w, req); err != nil {
		return nil, err
	}
	return response(req, w.status, w.header, io.NopCloser(&w.body), int64(w.body.Len())), nil
}

// serve lets a handler answer; a connection that it cuts is an error.
func serve(h http.Handler, w http.ResponseWriter, req *http.Request) (err error) {
	defer func() {
		switch broken := recover(); broken {
		case nil:
		case http.ErrAbortHandler:
			err = errors.New("connection lost")
		default:
			panic(broken)
		}
	}()
	h.ServeHTTP(w, req)
	return nil
}

// answer collects what a handler writes.
type answer struct {
	header http.Header
	status int
	body   bytes.Buffer
}

func (a *answer) Header() http.Header         { return a.header }
func (a *answer) WriteHeader(status int)      { a.status = status }
func (a *answer) Write(b []byte) (int, error) { return a.body.Write(b) }

// flow answers a request whose answer has no end, as it comes. It ends with the context of
// the request, or when nobody reads it any more.
func (t Transport) flow(req *http.Request) (*http.Response, error) {
	r, out := io.Pipe()
	w := &stream{header: http.Header{}, out: out, begun: make(chan int, 1)}
	go func() {
		err := serve(t.Handler, w, req)
		w.WriteHeader(http.StatusOK) // should nothing have been said
		out.CloseWithError(err)      // nil is the end of it
	}()
	return response(req, <-w.begun, w.header, r, -1), nil
}

// stream passes on what a handler writes.
type stream struct {
	header http.Header
	out    *io.PipeWriter
	once   sync.Once
	begun  chan int
}

func (s *stream) Header() http.Header    { return s.header }
func (s *stream) WriteHeader(status int) { s.once.Do(func() { s.begun <- status }) }
func (s *stream) Flush()                 {}
func (s *stream) Write(b []byte) (int, error) {
	s.WriteHeader(http.StatusOK)
	return s.out.Write(b)
}

func response(req *http.Request, status int, header http.Header, body io.ReadCloser, length int64) *http.Response {
	return &http.Response{
		Status: http.StatusText(status), StatusCode: status,
		Proto: "HTTP/1.1", ProtoMajor: 1, ProtoMinor: 1,
		Header: header, Body: body, ContentLength: length, Request: req,
	}
}

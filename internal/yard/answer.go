package yard

import (
	"bytes"
	"io"
	"net/http"
)

// answer collects what a handler writes, for the in-process transport.
type answer struct {
	header http.Header
	status int
	body   bytes.Buffer
}

func (a *answer) Header() http.Header         { return a.header }
func (a *answer) WriteHeader(status int)      { a.status = status }
func (a *answer) Write(b []byte) (int, error) { return a.body.Write(b) }

func (a *answer) response(req *http.Request) *http.Response {
	return &http.Response{
		Status: http.StatusText(a.status), StatusCode: a.status,
		Proto: "HTTP/1.1", ProtoMajor: 1, ProtoMinor: 1,
		Header: a.header, Body: io.NopCloser(&a.body), ContentLength: int64(a.body.Len()), Request: req,
	}
}

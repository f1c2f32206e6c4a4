// Package probe asks whether something that was deployed answers as it should: by HTTP, or
// by connecting to a port. Addresses of a cloud that answers for them itself are asked
// there, all others from here.
package probe

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"regexp"
	"time"

	"brickrow/internal/cloud"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

const (
	patience = 10 * time.Second // how long one answer may take
	mostBody = 64 << 10         // how much of an answer is read
)

// Ask asks once. Said is what was heard that is well; the error says what was not.
func Ask(ctx context.Context, via cloud.Asking, t stack.Target, q stack.Question) (said string, err error) {
	ctx, stop := context.WithTimeout(ctx, patience)
	defer stop()
	if !tosca.IsKnown(q.URL) {
		return "", errors.New("its address is not known: the cloud has not set it")
	}
	address := tosca.InClear(q.URL)
	if via != nil {
		reply, mine, err := via.Ask(ctx, t, cloud.Call{Kind: q.Kind, URL: address})
		if err != nil {
			return "", fmt.Errorf("the cloud was asked, and did not answer: %w", err)
		}
		if mine {
			return judge(q, reply)
		}
	}
	if q.Kind == "tcp" {
		return connect(ctx, address)
	}
	reply, err := get(ctx, address)
	if err != nil {
		return "", err
	}
	return judge(q, reply)
}

// judge holds what was heard against what is wanted.
func judge(q stack.Question, r cloud.Reply) (string, error) {
	switch {
	case r.Refused != "":
		return "", errors.New(r.Refused)
	case q.Kind == "tcp":
		return "it lets one in", nil
	case r.Status != q.Expect:
		return "", fmt.Errorf("it answers %d, and %d is wanted%s", r.Status, q.Expect, quoted(r.Body))
	}
	if q.Body != "" {
		match, err := regexp.Compile(q.Body)
		if err != nil {
			return "", fmt.Errorf("what it should answer cannot be read: %w", err)
		}
		if !match.MatchString(r.Body) {
			return "", fmt.Errorf("its answer is not like %s%s", q.Body, quoted(r.Body))
		}
	}
	return fmt.Sprintf("it answers %d", r.Status), nil
}

// quoted is the beginning of an answer, in words.
func quoted(body string) string {
	if body == "" {
		return ""
	}
	if r := []rune(body); len(r) > 200 {
		body = string(r[:200]) + "…"
	}
	return ": " + cloud.Clean(body)
}

func connect(ctx context.Context, address string) (string, error) {
	u, err := url.Parse(address)
	if err != nil || u.Port() == "" {
		return "", fmt.Errorf("%s is no tcp://HOST:PORT", address)
	}
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", u.Host)
	if err != nil {
		return "", err
	}
	return "it lets one in", conn.Close()
}

func get(ctx context.Context, address string) (cloud.Reply, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return cloud.Reply{}, err
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return cloud.Reply{}, err
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(io.LimitReader(resp.Body, mostBody))
	return cloud.Reply{Status: resp.StatusCode, Body: string(body)}, err
}

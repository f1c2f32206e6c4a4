package httpcloud

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"

	"github.com/tmaxmax/go-sse"

	"brickrow/internal/cloud"
	"brickrow/internal/stack"
)

// Feed follows the feed of a target.
func (c *Client) Feed(ctx context.Context, t stack.Target, after int64, each func(cloud.Change)) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, c.Base+place(t)+"/feed", nil)
	if err == nil {
		err = c.lacks(t.Account)
	}
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+c.Tokens[t.Account])
	req.Header.Set("Accept", "text/event-stream")
	if after >= 0 {
		req.Header.Set("Last-Event-ID", fmt.Sprint(after))
	}
	endless := *c.HTTP // which an answer that does not end needs
	endless.Timeout = 0
	resp, err := endless.Do(req)
	if err != nil {
		return passing(ctx, err)
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		answer, err := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
		if err != nil {
			return passing(ctx, err)
		}
		return problem(resp, answer)
	}
	for e, err := range sse.Read(resp.Body, &sse.ReadConfig{MaxEventSize: 1 << 20}) {
		if err != nil {
			return passing(ctx, err)
		}
		var ch cloud.Change
		if e.Type != "resource" || json.Unmarshal([]byte(e.Data), &ch) != nil {
			continue // of a kind that is not known here
		}
		for _, text := range []*string{&ch.ID, &ch.Type, &ch.State, &ch.Stack, &ch.Node} {
			*text = cloud.Clean(*text)
		}
		each(ch)
	}
	return passing(ctx, io.EOF)
}

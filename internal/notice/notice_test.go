package notice

import (
	"strings"
	"testing"
)

func TestText(t *testing.T) {
	if got := Text(Desktop, "bulletin; test", "done\nat\x1b]2;x\x07 once"); !strings.HasPrefix(got, "\a\x1b]9;bulletin, test: done at") ||
		strings.Count(got, "\x1b") != 4 || strings.Count(got, "\a") != 1 || strings.Contains(got, "\n") {
		t.Errorf("%q", got)
	}
	if got := Text(Desktop, "a", strings.Repeat("x", 1000)); len(got) > 600 {
		t.Errorf("%d bytes", len(got))
	}
	if Text(Bell, "a", "b") != "\a" || Text(None, "a", "b") != "" {
		t.Error("the bell says more, or nothing less")
	}
	for text, want := range map[string]How{"": Desktop, "bell": Bell, "none": None} {
		if got, err := Parse(text); got != want || err != nil {
			t.Errorf("%q is %s, %v", text, got, err)
		}
	}
	if _, err := Parse("loud"); err == nil {
		t.Error("loud is a way")
	}
}

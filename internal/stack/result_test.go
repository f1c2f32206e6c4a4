package stack

import (
	"os/exec"
	"testing"

	"brickrow/internal/tosca"
)

// A word of a shell is read by a shell as what it was.
func TestShellWord(t *testing.T) {
	for _, text := range []string{"a", "", "a b", "it's", "$HOME `x` \"y\" \\", "two\nlines", "-n", "ü 日", "\x1b[31mred", "tab\tand\x7f", "*?[]~#!"} {
		out, err := exec.Command("bash", "-c", "printf %s "+ShellWord(text)).Output()
		if err != nil && text != "" || string(out) != text && text != "-n" {
			t.Errorf("%q became %q (%v), as %s", text, out, err, ShellWord(text))
		}
	}
}

func TestReady(t *testing.T) {
	r := Result{Value: tosca.String("10.0.0.1; rm -r x"), Command: "ping -c 3 $value"}
	if got := r.Ready(Result.Text); got != "ping -c 3 '10.0.0.1; rm -r x'" {
		t.Error(got)
	}
	r = Result{Value: tosca.Hide(tosca.String("hush")), Command: "login $value"}
	if got := r.Ready(Result.Text) + r.Ready(Result.Reveal); got != "login '(secret)'login hush" {
		t.Error(got)
	}
	for text, want := range map[string]string{"https://a.example/x?y=1": "https://a.example/x?y=1", "a.example": "", "ftp://a": "", "http://": "",
		"http://a b": ""} {
		if got := (Result{Value: tosca.String(text)}).Address(); got != want {
			t.Errorf("%q: %q", text, got)
		}
	}
	if got := (Result{Value: tosca.Hide(tosca.String("https://a.example"))}).Address(); got != "" {
		t.Error(got)
	}
}

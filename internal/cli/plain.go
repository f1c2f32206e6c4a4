package cli

import (
	"io"
	"strings"
	"unicode/utf8"

	"brickrow/internal/cloud"
)

// plainWriter lets no control characters through to a terminal but ends of lines
// and tabs: whatever is printed, be it a name that somebody chose or an argument
// that comes back, it cannot move the cursor or change colours.
type plainWriter struct{ to io.Writer }

func (w plainWriter) Write(b []byte) (int, error) {
	if _, err := io.WriteString(w.to, plainLines(string(b))); err != nil {
		return 0, err
	}
	return len(b), nil
}

// plainLines cleans text line by line.
func plainLines(s string) string {
	harmless := strings.IndexFunc(s, func(r rune) bool {
		return r < 0x20 && r != '\n' && r != '\t' || r >= 0x7f && r < 0xa0 || r >= 0x200b && r <= 0x2069 || r == 0xfeff
	}) < 0
	if harmless {
		return s
	}
	var out strings.Builder
	for i, r := range s {
		switch {
		case r == '\n', r == '\t':
			out.WriteRune(r)
		case r == '\r' && strings.HasPrefix(s[i+1:], "\n"):
		case r == utf8.RuneError: // as it is, also where it is no UTF-8
			_, n := utf8.DecodeRuneInString(s[i:])
			out.WriteString(s[i : i+n])
		default:
			out.WriteString(cloud.Clean(string(r)))
		}
	}
	return out.String()
}

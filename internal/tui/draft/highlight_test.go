package draft

import (
	"fmt"
	"strings"
	"testing"

	"brickrow/internal/tui/part"
)

// TestHighlight colours lines of a template: keys stand in < >, texts in quotes
// or literals in [ ], numbers in ( ), functions as they are.
func TestHighlight(t *testing.T) {
	text := `a: { $concat: [ x, $value ] } # $none: 5
b: 5
ports: [ { port: 80, target_port: 8080 }, { "quoted key": 'it''s' } ]
description: One, two: and 3
- plain # said
note: |-
  key: not a key

  [ not flow
after: true
open: { size: small,
  image: fern-12, n: 7 }
last: https://hook.example/#x
`
	want := `<a>: { $concat: [ x, $value ] } # $none: 5
<b>: (5)
<ports>: [ { <port>: (80), <target_port>: (8080) }, { <"quoted key">: ['it''s'] } ]
<description>: One, two: and 3
- plain # said
<note>: |-
[  key: not a key]

[  [ not flow]
<after>: (true)
<open>: { <size>: small,
  <image>: fern-12, <n>: (7) }
<last>: https://hook.example/#x
`
	s := newSource(text)
	var h highlighter
	var b strings.Builder
	for n := range s.lines {
		for _, p := range h.line(s, n) {
			f := "%s"
			switch tokenColor(&part.Dark, p) {
			case part.Dark.Key:
				f = "<%s>"
			case part.Dark.Str:
				f = "[%s]"
			case part.Dark.Num:
				f = "(%s)"
			case part.Dark.Call:
				if !strings.HasPrefix(p.text, "$") {
					f = "?%s?"
				}
			}
			fmt.Fprintf(&b, f, p.text)
		}
		b.WriteString("\n")
	}
	if b.String() != want {
		t.Errorf("got\n%s\nwant\n%s", b.String(), want)
	}
}

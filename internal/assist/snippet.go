package assist

import (
	"cmp"
	"slices"
	"strings"
)

// Blank is a part of an inserted text that is to be filled in: from an offset up to
// another one, in bytes. Number 0 is where the cursor is at the end.
type Blank struct{ Number, From, To int }

// Expand is the text of an insertion without the marks of its blanks, and the blanks
// in their order, the end last.
func Expand(insert string) (string, []Blank) {
	var out strings.Builder
	var blanks []Blank
	open := -1 // the blank that is being read
	for i := 0; i < len(insert); i++ {
		c := insert[i]
		switch {
		case c == '\\' && i+1 < len(insert) && strings.IndexByte("\\$}", insert[i+1]) >= 0:
			i++
			out.WriteByte(insert[i])
		case c == '$' && i+1 < len(insert) && insert[i+1] == '0':
			i++
			blanks = append(blanks, Blank{0, out.Len(), out.Len()})
		case c == '$' && i+3 < len(insert) && insert[i+1] == '{':
			n, k := 0, i+2
			for k < len(insert) && insert[k] >= '0' && insert[k] <= '9' {
				n = n*10 + int(insert[k]-'0')
				k++
			}
			if k == i+2 || k >= len(insert) || insert[k] != ':' {
				out.WriteByte(c)
				continue
			}
			open, i = len(blanks), k
			blanks = append(blanks, Blank{n, out.Len(), out.Len()})
		case c == '}' && open >= 0:
			blanks[open].To, open = out.Len(), -1
		default:
			out.WriteByte(c)
		}
	}
	if open >= 0 {
		blanks[open].To = out.Len()
	}
	slices.SortStableFunc(blanks, func(a, b Blank) int {
		return cmp.Compare(uint(a.Number-1), uint(b.Number-1)) // 0 comes last
	})
	return out.String(), blanks
}

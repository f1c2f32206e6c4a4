package tosca

import (
	"cmp"
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"

	"github.com/sahilm/fuzzy"
)

// Pos is a place in a file. Line and Column count from 1; a zero Line means
// the file as a whole.
type Pos struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
}

// String is file:line:column, or the file alone.
func (p Pos) String() string {
	if p.Line == 0 {
		return p.File
	}
	return fmt.Sprintf("%s:%d:%d", p.File, max(p.Line, -p.Line), p.Column) // of a file that was read in part
}

// Short is file:line without the folders, for people who know the file; a file
// that a template imports has those below the template's own.
func (p Pos) Short() string {
	if p.Line == 0 {
		return p.File
	}
	name := filepath.Base(p.File)
	if path, ok := importedAs.Load(p.File); ok {
		name = path.(string)
	}
	return fmt.Sprintf("%s:%d", name, max(p.Line, -p.Line))
}

// importedAs are the paths below the template's folder of files that were
// imported, by their names. It is for showing only.
var importedAs sync.Map

// Severity says how much a finding matters. Only an error stops a deployment.
type Severity string

// The severities, gravest first.
const (
	Error   Severity = "error"
	Warning Severity = "warning"
	Hint    Severity = "hint"
)

// Finding is one thing wrong with a template, a stack file or an input. Code
// is short and stable; Fix, where there is one, says what would put it right.
type Finding struct {
	Pos
	Severity Severity `json:"severity"`
	Code     string   `json:"code"`
	Message  string   `json:"message"`
	Fix      string   `json:"fix"`
}

// String is the finding on one line.
func (f Finding) String() string {
	s := fmt.Sprintf("%s: %s: %s [%s]", f.Pos, f.Severity, f.Message, f.Code)
	if f.Fix != "" {
		s += "; " + f.Fix
	}
	return s
}

// Findings is a list of findings. The zero value is ready to use.
type Findings []Finding

// Errorf adds an error.
func (l *Findings) Errorf(p Pos, code, fix, format string, args ...any) {
	l.add(p, Error, code, fix, format, args...)
}

// Warnf adds a warning.
func (l *Findings) Warnf(p Pos, code, fix, format string, args ...any) {
	l.add(p, Warning, code, fix, format, args...)
}

// Hintf adds a hint.
func (l *Findings) Hintf(p Pos, code, fix, format string, args ...any) {
	l.add(p, Hint, code, fix, format, args...)
}

func (l *Findings) add(p Pos, s Severity, code, fix, format string, args ...any) {
	*l = append(*l, Finding{Pos: p, Severity: s, Code: code, Fix: fix, Message: fmt.Sprintf(format, args...)})
}

// Explain shows a text beside the rules that findings from one on speak of.
func (l Findings) Explain(from int, text string) {
	for i := from; text != "" && i < len(l); i++ {
		if l[i].Fix != "" {
			l[i].Fix = text + "; " + l[i].Fix
		} else {
			l[i].Fix = text
		}
	}
}

// HasErrors reports whether any finding is an error.
func (l Findings) HasErrors() bool {
	return slices.ContainsFunc(l, func(f Finding) bool { return f.Severity == Error })
}

// ordinal is what tells the resources of one node apart in a message.
var ordinal = regexp.MustCompile(`#\d+`)

// alike reports whether two findings say the same, if only of two resources of
// one node.
func alike(a, b Finding) bool {
	if a.Pos != b.Pos || a.Code != b.Code || a.Severity != b.Severity {
		return false
	}
	return a.Message == b.Message || ordinal.ReplaceAllString(a.Message, "") == ordinal.ReplaceAllString(b.Message, "")
}

// Sort orders the findings by place and drops those said twice.
func (l *Findings) Sort() {
	slices.SortStableFunc(*l, func(a, b Finding) int {
		return cmp.Or(strings.Compare(a.File, b.File), a.Line-b.Line, a.Column-b.Column,
			strings.Compare(a.Code, b.Code), strings.Compare(a.Message, b.Message))
	})
	*l = slices.CompactFunc(*l, alike)
}

// suggest is the fix for a name that is not among those known: the nearest
// one, or the list where it is short.
func suggest(name string, known []string) string {
	if n := nearest(name, known); n != "" {
		return fmt.Sprintf("did you mean '%s'?", n)
	}
	if len(known) > 0 && len(known) <= 12 {
		return "known here: " + strings.Join(sorted(known), ", ")
	}
	return ""
}

func sorted(s []string) []string {
	s = slices.Clone(s)
	slices.Sort(s)
	return s
}

// nearest is the known name closest to name, or "" where none is close.
func nearest(name string, known []string) string {
	best, bestDistance := "", 1+len(name)/3
	low := strings.ToLower(name)
	for _, k := range sorted(known) {
		if d := distance(low, strings.ToLower(k), bestDistance); d < bestDistance || (d == bestDistance && best == "") {
			best, bestDistance = k, d
		}
	}
	if best == "" && len(name) >= 3 {
		if m := fuzzy.Find(low, sorted(known)); len(m) > 0 {
			return m[0].Str
		}
	}
	return best
}

// distance counts the letters to add, drop, change or swap with their
// neighbour to get from a to b; it gives up above limit.
func distance(a, b string, limit int) int {
	x, y := []rune(a), []rune(b)
	if len(x) > 64 || len(y) > 64 || len(x)-len(y) > limit || len(y)-len(x) > limit {
		return limit + 1
	}
	var before, last []int
	row := make([]int, len(y)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(x); i++ {
		before, last, row = last, row, make([]int, len(y)+1)
		row[0] = i
		for j := 1; j <= len(y); j++ {
			change := 1
			if x[i-1] == y[j-1] {
				change = 0
			}
			row[j] = min(last[j]+1, row[j-1]+1, last[j-1]+change)
			if i > 1 && j > 1 && x[i-1] == y[j-2] && x[i-2] == y[j-1] {
				row[j] = min(row[j], before[j-2]+1)
			}
		}
	}
	return row[len(y)]
}

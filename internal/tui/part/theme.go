package part

import (
	"fmt"
	"image/color"
	"strings"
	"sync"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"
	uv "github.com/charmbracelet/ultraviolet"
	"github.com/charmbracelet/x/ansi"

	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/whatif"
)

// Theme is the colours of the interface at one depth, on one ground. A nil colour is
// the terminal's own. Every text stands at 4.5:1 or more on its ground, with strong
// contrast at 7:1; a test holds all of them to that. Colours repeat what marks and
// words say already.
type Theme struct {
	Ground, Text, Dim, Mortar, Accent, Hint, Bright color.Color
	SelGround, SelText                              color.Color
	Bar, Careful, CarefulText, Panel                color.Color
	Kinds                                           map[whatif.Kind]Paint
	States                                          map[run.State]Paint
	Key, Str, Num, Comment, Call                    color.Color // of the template's text
	// Outlined bricks have edges, since they have no ground of their own.
	Outlined bool
}

// Paint is how a brick looks: its ground, the ground of its empty part while
// it fills, its text, and the colour of its word on the plain ground.
type Paint struct{ Ground, Empty, Text, Word color.Color }

// Look is what the colours are chosen by.
type Look struct {
	Depth  colorprofile.Profile // what the terminal can show
	Light  bool                 // its ground is light
	Strong bool                 // texts at 7:1
}

// Theme is the palette for a look. Each is designed and none derived: a terminal that
// shows other colours than it is told would take greys for blues.
func (l Look) Theme() *Theme {
	column := 0
	switch {
	case l.Depth <= colorprofile.ASCII:
		return &colourless
	case l.Depth == colorprofile.ANSI:
		column = 2
	case l.Strong:
		column = 3
	case l.Depth == colorprofile.ANSI256:
		column = 1
	}
	if l.Light {
		column += 4
	}
	return themes()[column]
}

// colours are all that there are, on a dark and on a light ground: in full depth, of the 216 and the greys that all
// terminals with 256 show alike, of 16, and with strong contrast (of the 256, which each terminal with more has too).
// A dash is the terminal's own: with 16 that is the only ground that is sure to be another colour than the text. Where
// a brick has no empty part, it is as its ground.
const colours = `
ground           #15171B   234  -    16   #FBFAF7   231  -    231
text             #D9DCE1   253  -    231  #22262C   235  -    16
dim              #8D95A1   247  -    252  #596170   241  -    236
mortar           #3B4048   239  8    250  #C6CAD0   251  8    240
accent           #D9805C   173  -    215  #A8492A   130  -    17
hint             #F2D5A0   223  11   229  #7A4E00   94   -    16
bright           #FFFFFF   231  15   231  #000000   16   -    16
selection        #F2D5A0   223  -    229  #5A3A00   94   -    16
selected         #1B1712   234  -    16   #FFF4DC   230  -    231
bar              #262A31   236  -    237  #E9E6DF   254  -    255
careful          #7A2F1F   88   -    88   #F3C3B2   217  -    52
carefully        #FFE3D6   224  -    231  #5A1606   52   -    231
panel            #1D2026   235  -    235  #F1EEE7   255  -    255
key              #E8A98E   216  -    223  #98401F   88   4    17
string           #B9D7A8   151  10   194  #2F6B1F   22   -    18
number           #E2B04A   179  11   221  #7D5700   94   -    53
comment          #8D95A1   247  -    252  #596170   241  -    236
call             #8CCFCB   116  14   159  #176562   23   -    53
new.ground       #1F5E5B   23   -    23   #BFE6E0   152  -    159
new.text         #DDF7F3   195  14   231  #0B3B38   16   4    16
new.word         #7AD3C7   116  14   123  #0E6A62   23   4    17
edit.ground      #6B4E16   94   -    178  #F5DDA6   222  -    229
edit.text        #FFEBC4   230  11   16   #4A3300   235  -    16
edit.word        #E2B04A   179  11   221  #7D5700   94   -    16
swap.ground      #503A78   54   -    54   #DDD0F5   183  -    225
swap.text        #EBDFFF   225  13   231  #33205C   53   -    16
swap.word        #B79BF0   183  13   219  #5B3D99   54   -    53
drop.ground      #6A3323   52   -    52   #F4CFC0   217  -    224
drop.text        #FFDCCF   223  15   231  #571F0D   52   -    16
drop.word        #E08A66   209  15   216  #963F1F   88   -    52
same.ground      #2A2E35   237  -    237  #E4E4E2   254  -    253
same.text        #A7AEB9   250  -    255  #4A515B   239  -    16
same.word        #9AA2AE   248  -    252  #596170   241  -    238
adopt.ground     #1F4E79   24   -    18   #BFDDF7   153  -    153
adopt.text       #D8ECFF   255  14   231  #0E3558   235  4    16
adopt.word       #7FB8EE   110  14   153  #1F5C94   24   4    18
waiting.ground   #23272E   236  -    236  #ECEBE7   255  -    254
waiting.text     #9BA3AF   249  -    255  #555D68   240  -    16
waiting.word     #8D95A1   247  -    252  #596170   241  -    238
working.ground   #8A5A1C   130  -    238  #F0C477   222  -    222
working.empty    #3A2C18   236  -    234  #F8E6C6   230  -    230
working.text     #FFF0D6   231  11   231  #442B00   235  -    16
working.word     #E9B45A   215  11   221  #8A5A00   94   -    16
settling.ground  #3E6A6A   23   -    23   #A9D8D6   116  -    159
settling.empty   #21383A   237  -    236  #DCEFEE   195  -    195
settling.text    #E0F7F5   195  14   231  #0E3C3B   235  4    16
settling.word    #8CCFCB   116  14   123  #176562   23   4    17
ready.ground     #2F5D3A   22   -    22   #BFE0C2   151  -    157
ready.text       #DDF5DF   194  10   231  #123D1B   235  -    16
ready.word       #86C98E   114  10   120  #226B31   22   -    22
failed.ground    #8F2229   88   1    88   #B3262E   124  1    124
failed.text      #FFE3E3   231  15   231  #FFFFFF   231  15   231
failed.word      #FF8E8E   210  9    224  #A81E27   124  -    88
undoing.ground   #34495C   60   -    18   #BACFE3   153  -    153
undoing.empty    #1E2B38   237  -    235  #E2EBF3   189  -    189
undoing.text     #E2EEFA   231  13   231  #17324C   235  -    16
undoing.word     #9DBFE0   153  13   189  #335F87   24   -    18
undone.ground    #34495C   239  -    238  #CFDDEA   189  -    189
undone.text      #D6E6F5   189  -    231  #17324C   236  -    16
undone.word      #9DBFE0   146  -    189  #335F87   60   -    236
removing.ground  #6A3323   52   -    52   #EDB9A4   217  -    217
removing.empty   #33201A   236  -    235  #F8E2D9   224  -    224
removing.text    #FFDCCF   223  15   231  #571F0D   52   -    16
removing.word    #E08A66   209  15   216  #963F1F   88   -    52
removed.ground   #3A2A25   236  -    236  #EFE3DE   254  -    253
removed.text     #D9B8AB   181  -    224  #6A4234   52   -    16
removed.word     #C99A88   181  -    224  #7D5040   95   -    52
kept.ground      #34465C   239  -    238  #D3E0EF   189  -    189
kept.text        #D5E4F7   255  -    231  #1F3A57   236  -    16
kept.word        #9DB9D9   146  -    189  #3B6087   60   -    236
skipped.ground   #1D2026   235  -    235  #F1EEE7   255  -    255
skipped.text     #8D95A1   247  -    252  #596170   240  -    238
skipped.word     #8D95A1   247  -    252  #596170   241  -    238
`

var (
	themes     = sync.OnceValue(func() [8]*Theme { return readColours(colours) })
	colourless = Theme{Outlined: true}
)

// Unsure are the colours for a line of text on a ground that nobody has told: those that each terminal has made readable
// on its own. To ask it would hold up a command, and leave signs in what it prints where no terminal answers.
func Unsure() *Theme {
	ink := func(n int) Paint {
		c := color.Color(ansi.BasicColor(n))
		return Paint{Text: c, Word: c}
	}
	return &Theme{Outlined: true,
		Kinds:  map[whatif.Kind]Paint{whatif.New: ink(6), whatif.Edit: ink(3), whatif.Swap: ink(5), whatif.Adopt: ink(4)},
		States: map[run.State]Paint{run.Working: ink(3), run.Settling: ink(6), run.IsReady: ink(2), run.HasFailed: ink(1), run.Undoing: ink(5)}}
}

// readColours reads the table of colours, a theme for each of its columns.
func readColours(table string) (out [8]*Theme) {
	for column := range out {
		out[column] = themeOf(table, column)
	}
	return out
}

func themeOf(table string, column int) *Theme {
	t := &Theme{Kinds: map[whatif.Kind]Paint{}, States: map[run.State]Paint{}, Outlined: column%4 == 2}
	plain := map[string]*color.Color{"ground": &t.Ground, "text": &t.Text, "dim": &t.Dim, "mortar": &t.Mortar,
		"accent": &t.Accent, "hint": &t.Hint, "bright": &t.Bright, "selection": &t.SelGround, "selected": &t.SelText,
		"bar": &t.Bar, "careful": &t.Careful, "carefully": &t.CarefulText, "panel": &t.Panel, "key": &t.Key,
		"string": &t.Str, "number": &t.Num, "comment": &t.Comment, "call": &t.Call}
	bricks := map[string]*Paint{}
	for _, line := range strings.Split(strings.TrimSpace(table), "\n") {
		cells := strings.Fields(line)
		var c color.Color
		if cells[1+column] != "-" {
			c = lipgloss.Color(cells[1+column])
		}
		name, part, brick := strings.Cut(cells[0], ".")
		if !brick {
			*plain[name] = c
			continue
		}
		p := bricks[name]
		if p == nil {
			p = &Paint{}
			bricks[name] = p
		}
		switch part {
		case "ground":
			p.Ground, p.Empty = c, c
		case "empty":
			p.Empty = c
		case "text":
			p.Text = c
		case "word":
			p.Word = c
		default:
			panic(fmt.Sprintf("colours: %s", cells[0]))
		}
	}
	for name, p := range bricks {
		if _, ok := StateMarks[run.State(name)]; ok {
			t.States[run.State(name)] = *p
		}
		if k := whatif.Kind(name); k.Mark() != "" {
			t.Kinds[k] = *p
		}
	}
	return t
}

// StateMarks are the signs of a resource in a run, shape before colour.
var StateMarks = map[run.State]string{
	run.Waiting: "·", run.Working: "▶", run.Settling: "◔", run.IsReady: "■", run.HasFailed: "✖", run.Undoing: "↶",
	run.IsUndone: "↶", run.Removing: "▷", run.Removed: "□", run.Kept: "◇", run.Skipped: "–",
}

// StackPaint is how the state of a stack looks.
func (t *Theme) StackPaint(s stack.State) (mark string, col color.Color) {
	switch s {
	case stack.Ready:
		return "■", t.States[run.IsReady].Word
	case stack.Deploying:
		return "▶", t.States[run.Working].Word
	case stack.Undoing:
		return "↶", t.States[run.Undoing].Word
	case stack.Removing:
		return "▷", t.States[run.Removing].Word
	case stack.Removed:
		return "□", t.Dim
	case stack.Partial, stack.Interrupted, stack.Paused:
		return "◧", t.Hint
	case stack.AtRest, stack.PartAtRest:
		return "◌", t.Dim
	case stack.Amiss:
		return "!", t.States[run.HasFailed].Word
	case stack.Stuck:
		return "✖", t.States[run.HasFailed].Word
	}
	return "·", t.Dim
}

func (t *Theme) Plain() uv.Style  { return uv.Style{Fg: t.Text, Bg: t.Ground} }
func (t *Theme) Faint() uv.Style  { return uv.Style{Fg: t.Dim, Bg: t.Ground} }
func (t *Theme) Strong() uv.Style { return uv.Style{Fg: t.Bright, Bg: t.Ground, Attrs: uv.AttrBold} }
func (t *Theme) Hinted() uv.Style { return uv.Style{Fg: t.Hint, Bg: t.Ground} }
func (t *Theme) On(col color.Color) uv.Style {
	return uv.Style{Fg: col, Bg: t.Ground}
}

// block is a piece that stands on a ground of its own; where the palette has none, it is turned around.
func block(fg, ground color.Color, bold bool) uv.Style {
	st := uv.Style{Fg: fg, Bg: ground}
	if ground == nil {
		st.Fg, st.Attrs = nil, uv.AttrReverse
	}
	if bold {
		st.Attrs |= uv.AttrBold
	}
	return st
}

// Chosen is what is chosen of several, such as a row of a list.
func (t *Theme) Chosen() uv.Style { return block(t.SelText, t.SelGround, true) }

// Watch is the place of a target that one has to be careful with.
func (t *Theme) Watch() uv.Style { return block(t.CarefulText, t.Careful, true) }

// Brand is the name of the program.
func (t *Theme) Brand() uv.Style { return block(t.Ground, t.Accent, true) }

// Cursor is where the next letter goes.
func (t *Theme) Cursor() uv.Style { return block(t.Ground, t.Accent, false) }

// Field is what is typed into.
func (t *Theme) Field() uv.Style {
	st := uv.Style{Fg: t.Bright, Bg: t.Bar}
	if t.Bar == nil {
		st.Underline = uv.UnderlineSingle
	}
	return st
}

// Bold is the style in bold.
func Bold(s uv.Style) uv.Style {
	s.Attrs |= uv.AttrBold
	return s
}

package part

import (
	"image/color"

	"charm.land/lipgloss/v2"
	uv "github.com/charmbracelet/ultraviolet"

	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/whatif"
)

// Theme is the colours of the interface. Every text stands at 4.5:1 or more on
// its ground; a test holds both themes to that. Colours repeat what marks and
// words say already.
type Theme struct {
	Ground, Text, Dim, Mortar, Accent, Hint, Bright color.Color
	SelGround, SelText                              color.Color
	Bar, Careful, CarefulText, Panel                color.Color
	Kinds                                           map[whatif.Kind]Paint
	States                                          map[run.State]Paint
	Key, Str, Num, Comment, Call                    color.Color // of the template's text
}

// Paint is how a brick looks: its ground, the ground of its empty part while
// it fills, its text, and the colour of its word on the plain ground.
type Paint struct{ Ground, Empty, Text, Word color.Color }

func c(hex string) color.Color { return lipgloss.Color(hex) }

var Dark = Theme{
	Ground: c("#15171B"), Text: c("#D9DCE1"), Dim: c("#8D95A1"), Mortar: c("#3B4048"), Accent: c("#D9805C"),
	Hint: c("#F2D5A0"), Bright: c("#FFFFFF"),
	SelGround: c("#F2D5A0"), SelText: c("#1B1712"), Bar: c("#262A31"), Careful: c("#7A2F1F"),
	CarefulText: c("#FFE3D6"), Panel: c("#1D2026"),
	Kinds: map[whatif.Kind]Paint{
		whatif.New:   {c("#1F5E5B"), c("#1F5E5B"), c("#DDF7F3"), c("#7AD3C7")},
		whatif.Edit:  {c("#6B4E16"), c("#6B4E16"), c("#FFEBC4"), c("#E2B04A")},
		whatif.Swap:  {c("#503A78"), c("#503A78"), c("#EBDFFF"), c("#B79BF0")},
		whatif.Drop:  {c("#6A3323"), c("#6A3323"), c("#FFDCCF"), c("#E08A66")},
		whatif.Same:  {c("#2A2E35"), c("#2A2E35"), c("#A7AEB9"), c("#9AA2AE")},
		whatif.Adopt: {c("#1F4E79"), c("#1F4E79"), c("#D8ECFF"), c("#7FB8EE")},
		whatif.Keep:  {c("#34465C"), c("#34465C"), c("#D5E4F7"), c("#9DB9D9")},
	},
	States: map[run.State]Paint{
		run.Waiting:   {c("#23272E"), c("#23272E"), c("#9BA3AF"), c("#8D95A1")},
		run.Working:   {c("#8A5A1C"), c("#3A2C18"), c("#FFF0D6"), c("#E9B45A")},
		run.Settling:  {c("#3E6A6A"), c("#21383A"), c("#E0F7F5"), c("#8CCFCB")},
		run.IsReady:   {c("#2F5D3A"), c("#2F5D3A"), c("#DDF5DF"), c("#86C98E")},
		run.HasFailed: {c("#8F2229"), c("#8F2229"), c("#FFE3E3"), c("#FF8E8E")},
		run.Undoing:   {c("#34495C"), c("#1E2B38"), c("#E2EEFA"), c("#9DBFE0")},
		run.IsUndone:  {c("#34495C"), c("#34495C"), c("#D6E6F5"), c("#9DBFE0")},
		run.Removing:  {c("#6A3323"), c("#33201A"), c("#FFDCCF"), c("#E08A66")},
		run.Removed:   {c("#3A2A25"), c("#3A2A25"), c("#D9B8AB"), c("#C99A88")},
		run.Kept:      {c("#34465C"), c("#34465C"), c("#D5E4F7"), c("#9DB9D9")},
		run.Skipped:   {c("#1D2026"), c("#1D2026"), c("#8D95A1"), c("#8D95A1")},
	},
	Key: c("#E8A98E"), Str: c("#B9D7A8"), Num: c("#E2B04A"), Comment: c("#8D95A1"), Call: c("#8CCFCB"),
}

var Light = Theme{
	Ground: c("#FBFAF7"), Text: c("#22262C"), Dim: c("#596170"), Mortar: c("#C6CAD0"), Accent: c("#A8492A"),
	Hint: c("#7A4E00"), Bright: c("#000000"),
	SelGround: c("#5A3A00"), SelText: c("#FFF4DC"), Bar: c("#E9E6DF"), Careful: c("#F3C3B2"),
	CarefulText: c("#5A1606"), Panel: c("#F1EEE7"),
	Kinds: map[whatif.Kind]Paint{
		whatif.New:   {c("#BFE6E0"), c("#BFE6E0"), c("#0B3B38"), c("#0E6A62")},
		whatif.Edit:  {c("#F5DDA6"), c("#F5DDA6"), c("#4A3300"), c("#7D5700")},
		whatif.Swap:  {c("#DDD0F5"), c("#DDD0F5"), c("#33205C"), c("#5B3D99")},
		whatif.Drop:  {c("#F4CFC0"), c("#F4CFC0"), c("#571F0D"), c("#963F1F")},
		whatif.Same:  {c("#E4E4E2"), c("#E4E4E2"), c("#4A515B"), c("#596170")},
		whatif.Adopt: {c("#BFDDF7"), c("#BFDDF7"), c("#0E3558"), c("#1F5C94")},
		whatif.Keep:  {c("#D3E0EF"), c("#D3E0EF"), c("#1F3A57"), c("#3B6087")},
	},
	States: map[run.State]Paint{
		run.Waiting:   {c("#ECEBE7"), c("#ECEBE7"), c("#555D68"), c("#596170")},
		run.Working:   {c("#F0C477"), c("#F8E6C6"), c("#442B00"), c("#8A5A00")},
		run.Settling:  {c("#A9D8D6"), c("#DCEFEE"), c("#0E3C3B"), c("#176562")},
		run.IsReady:   {c("#BFE0C2"), c("#BFE0C2"), c("#123D1B"), c("#226B31")},
		run.HasFailed: {c("#B3262E"), c("#B3262E"), c("#FFFFFF"), c("#A81E27")},
		run.Undoing:   {c("#BACFE3"), c("#E2EBF3"), c("#17324C"), c("#335F87")},
		run.IsUndone:  {c("#CFDDEA"), c("#CFDDEA"), c("#17324C"), c("#335F87")},
		run.Removing:  {c("#EDB9A4"), c("#F8E2D9"), c("#571F0D"), c("#963F1F")},
		run.Removed:   {c("#EFE3DE"), c("#EFE3DE"), c("#6A4234"), c("#7D5040")},
		run.Kept:      {c("#D3E0EF"), c("#D3E0EF"), c("#1F3A57"), c("#3B6087")},
		run.Skipped:   {c("#F1EEE7"), c("#F1EEE7"), c("#596170"), c("#596170")},
	},
	Key: c("#98401F"), Str: c("#2F6B1F"), Num: c("#7D5700"), Comment: c("#596170"), Call: c("#176562"),
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

// Bold is the style in bold.
func Bold(s uv.Style) uv.Style {
	s.Attrs |= uv.AttrBold
	return s
}

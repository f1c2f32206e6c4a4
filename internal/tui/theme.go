package tui

import (
	"image/color"

	"charm.land/lipgloss/v2"
	uv "github.com/charmbracelet/ultraviolet"

	"brickrow/internal/run"
	"brickrow/internal/store"
	"brickrow/internal/whatif"
)

// theme is the colours of the interface. Every text stands at 4.5:1 or more on
// its ground; a test holds both themes to that. Colours repeat what marks and
// words say already.
type theme struct {
	ground, text, dim, mortar, accent, hint, bright color.Color
	selGround, selText                              color.Color
	bar, careful, carefulText, panel                color.Color
	kinds                                           map[whatif.Kind]paint
	states                                          map[run.State]paint
	key, str, num, comment, call                    color.Color // of the template's text
}

// paint is how a brick looks: its ground, the ground of its empty part while
// it fills, its text, and the colour of its word on the plain ground.
type paint struct{ ground, empty, text, word color.Color }

func c(hex string) color.Color { return lipgloss.Color(hex) }

var dark = theme{
	ground: c("#15171B"), text: c("#D9DCE1"), dim: c("#8D95A1"), mortar: c("#3B4048"), accent: c("#D9805C"), hint: c("#F2D5A0"), bright: c("#FFFFFF"),
	selGround: c("#F2D5A0"), selText: c("#1B1712"), bar: c("#262A31"), careful: c("#7A2F1F"), carefulText: c("#FFE3D6"), panel: c("#1D2026"),
	kinds: map[whatif.Kind]paint{
		whatif.New:   {c("#1F5E5B"), c("#1F5E5B"), c("#DDF7F3"), c("#7AD3C7")},
		whatif.Edit:  {c("#6B4E16"), c("#6B4E16"), c("#FFEBC4"), c("#E2B04A")},
		whatif.Swap:  {c("#503A78"), c("#503A78"), c("#EBDFFF"), c("#B79BF0")},
		whatif.Drop:  {c("#6A3323"), c("#6A3323"), c("#FFDCCF"), c("#E08A66")},
		whatif.Same:  {c("#2A2E35"), c("#2A2E35"), c("#A7AEB9"), c("#9AA2AE")},
		whatif.Adopt: {c("#1F4E79"), c("#1F4E79"), c("#D8ECFF"), c("#7FB8EE")},
		whatif.Keep:  {c("#34465C"), c("#34465C"), c("#D5E4F7"), c("#9DB9D9")},
	},
	states: map[run.State]paint{
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
	key: c("#E8A98E"), str: c("#B9D7A8"), num: c("#E2B04A"), comment: c("#8D95A1"), call: c("#8CCFCB"),
}

var light = theme{
	ground: c("#FBFAF7"), text: c("#22262C"), dim: c("#596170"), mortar: c("#C6CAD0"), accent: c("#A8492A"), hint: c("#7A4E00"), bright: c("#000000"),
	selGround: c("#5A3A00"), selText: c("#FFF4DC"), bar: c("#E9E6DF"), careful: c("#F3C3B2"), carefulText: c("#5A1606"), panel: c("#F1EEE7"),
	kinds: map[whatif.Kind]paint{
		whatif.New:   {c("#BFE6E0"), c("#BFE6E0"), c("#0B3B38"), c("#0E6A62")},
		whatif.Edit:  {c("#F5DDA6"), c("#F5DDA6"), c("#4A3300"), c("#7D5700")},
		whatif.Swap:  {c("#DDD0F5"), c("#DDD0F5"), c("#33205C"), c("#5B3D99")},
		whatif.Drop:  {c("#F4CFC0"), c("#F4CFC0"), c("#571F0D"), c("#963F1F")},
		whatif.Same:  {c("#E4E4E2"), c("#E4E4E2"), c("#4A515B"), c("#596170")},
		whatif.Adopt: {c("#BFDDF7"), c("#BFDDF7"), c("#0E3558"), c("#1F5C94")},
		whatif.Keep:  {c("#D3E0EF"), c("#D3E0EF"), c("#1F3A57"), c("#3B6087")},
	},
	states: map[run.State]paint{
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
	key: c("#98401F"), str: c("#2F6B1F"), num: c("#7D5700"), comment: c("#596170"), call: c("#176562"),
}

// stateMarks are the signs of a resource in a run, shape before colour.
var stateMarks = map[run.State]string{
	run.Waiting: "·", run.Working: "▶", run.Settling: "◔", run.IsReady: "■", run.HasFailed: "✖", run.Undoing: "↶",
	run.IsUndone: "↶", run.Removing: "▷", run.Removed: "□", run.Kept: "◇", run.Skipped: "–",
}

// stackPaint is how the state of a stack looks.
func (t *theme) stackPaint(s store.State) (mark string, col color.Color) {
	switch s {
	case store.Ready:
		return "■", t.states[run.IsReady].word
	case store.Deploying:
		return "▶", t.states[run.Working].word
	case store.Undoing:
		return "↶", t.states[run.Undoing].word
	case store.Removing:
		return "▷", t.states[run.Removing].word
	case store.Removed:
		return "□", t.dim
	case store.Partial:
		return "◧", t.hint
	case store.Stuck:
		return "✖", t.states[run.HasFailed].word
	}
	return "·", t.dim
}

func (t *theme) plain() uv.Style  { return uv.Style{Fg: t.text, Bg: t.ground} }
func (t *theme) faint() uv.Style  { return uv.Style{Fg: t.dim, Bg: t.ground} }
func (t *theme) strong() uv.Style { return uv.Style{Fg: t.bright, Bg: t.ground, Attrs: uv.AttrBold} }
func (t *theme) hinted() uv.Style { return uv.Style{Fg: t.hint, Bg: t.ground} }
func (t *theme) on(col color.Color) uv.Style {
	return uv.Style{Fg: col, Bg: t.ground}
}

// bold is the style in bold.
func bold(s uv.Style) uv.Style {
	s.Attrs |= uv.AttrBold
	return s
}

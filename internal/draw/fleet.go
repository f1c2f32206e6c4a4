package draw

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"brickrow/internal/stack"
	"brickrow/internal/whatif"
)

// Fleet is a picture of how one stack stands in many places: accounts down, regions across.
type Fleet struct {
	Name   string
	About  string // such as "rollout 3: ready"
	Places []Place
	Made   time.Time
}

// Place is one of them.
type Place struct {
	Target stack.Target
	Wave   int
	State  string
	Reason string // that it failed for
	Took   time.Duration
}

// stateLooks are those of places, told apart by their letter also without colour.
var stateLooks = map[string]look{
	"ready":   {colour{0xD6, 0xEC, 0xDB}, colour{0x1E, 0x4D, 0x2A}, 1, false},
	"removed": {colour{0xE0, 0xE6, 0xEC}, colour{0x33, 0x44, 0x57}, 1, true},
	"working": {colour{0xF8, 0xE8, 0xBE}, colour{0x57, 0x3D, 0x08}, 1.2, false},
	"begun":   {colour{0xF8, 0xE8, 0xBE}, colour{0x57, 0x3D, 0x08}, 1.2, true},
	"failed":  {colour{0xF6, 0xD3, 0xD5}, colour{0x7A, 0x14, 0x1B}, 2, false},
	"asks":    {colour{0xE4, 0xDA, 0xF4}, colour{0x40, 0x27, 0x68}, 1.2, false},
	"waiting": {colour{0xF3, 0xF4, 0xF6}, colour{0x48, 0x50, 0x5A}, 0.5, true},
}

func (p Fleet) title() string   { return "The fleet " + p.Name }
func (p Fleet) made() time.Time { return p.Made }
func (p Fleet) footer() string {
	return fmt.Sprintf("Brick Row · %s · %s · %s", p.Name, p.About, p.Made.UTC().Format("2006-01-02 15:04 UTC"))
}

func (p Fleet) lay(f *flow) {
	f.y += 22
	f.write(left, f.y, 17, bold, ink, p.Name)
	f.y += 6
	f.paragraph(left, 0, 9, regular, dim, fmt.Sprintf("%s; %s. Drawn %s.", stack.Count(len(p.Places), "place"), p.About, p.Made.UTC().Format("2006-01-02 15:04 UTC")))
	f.y += 8
	var accounts, regions []string
	at := map[stack.Target]Place{}
	for _, x := range p.Places {
		at[x.Target] = x
		if !slices.Contains(accounts, x.Target.Account) {
			accounts = append(accounts, x.Target.Account)
		}
		if !slices.Contains(regions, x.Target.Region) {
			regions = append(regions, x.Target.Region)
		}
	}
	slices.Sort(accounts)
	slices.Sort(regions)
	const names, high = 110.0, 26.0
	wide := min(120, (right-left-names)/float64(max(1, len(regions))))
	head := func() {
		f.y += 12
		for i, r := range regions {
			f.clipped(left+names+float64(i)*wide+3, f.y-3, wide-6, 8, bold, dim, r)
		}
	}
	head()
	for _, account := range accounts {
		if f.room() < high+4 {
			f.need(high + 40)
			head()
		}
		f.clipped(left, f.y+high/2+3, names-6, 9, bold, ink, account)
		for i, region := range regions {
			x, ok := at[stack.Target{Account: account, Region: region}]
			if !ok {
				continue
			}
			l := stateLooks[x.State]
			bx := left + names + float64(i)*wide
			f.box(bx+1, f.y+1, wide-4, high-3, &l.ground, &l.text, l.edge, l.dashed)
			f.clipped(bx+5, f.y+11, wide-12, 8.5, bold, l.text, x.State)
			words := fmt.Sprintf("wave %d", x.Wave)
			if x.Took > 0 {
				words += "  " + whatif.Length(x.Took.Seconds())
			}
			f.clipped(bx+5, f.y+20, wide-12, 6.5, regular, l.text, words)
		}
		f.y += high
	}
	var failed []Place
	for _, x := range p.Places {
		if x.State == "failed" {
			failed = append(failed, x)
		}
	}
	if len(failed) == 0 {
		return
	}
	f.heading("Where it failed")
	for _, x := range failed {
		f.need(14)
		f.paragraph(left, 12, 8.5, regular, ink, x.Target.String()+": "+strings.TrimSpace(x.Reason))
	}
}

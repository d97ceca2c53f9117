package report

import (
	"bytes"
	"fmt"
	"image/color"
	"math"
	"regexp"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgsvg"
)

// Sample is a value at a time.
type Sample struct {
	Time  time.Time `json:"time"`
	Value float64   `json:"value"`
}

// Series is a named row of samples, in order of their times.
type Series struct {
	Name    string
	Samples []Sample
}

// Unit is what the values of a chart are.
type Unit int

// The units of charts.
const (
	Bytes Unit = iota
	Seconds
)

// Chart is lines over a common time axis.
type Chart struct {
	Title  string
	Unit   Unit
	From   time.Time
	To     time.Time
	Series []Series
	// Dots draws a mark for each sample and no line.
	Dots bool
}

// MaxSeries is how many series one chart shows: more cannot be told apart.
const MaxSeries = 6

// Colours that stand for the variables of a style sheet, and are put in their place.
var (
	ink   = color.RGBA{1, 2, 3, 255}
	faint = color.RGBA{1, 2, 4, 255}
	// inks are told apart also without seeing colours: by their lightness, and by dashes and marks.
	inks = []color.RGBA{{2, 1, 0, 255}, {2, 1, 1, 255}, {2, 1, 2, 255}, {2, 1, 3, 255}, {2, 1, 4, 255}, {2, 1, 5, 255},
		{2, 1, 6, 255}}
	// onPaper are the same for pictures, which have no style sheet.
	onPaper = map[color.RGBA]color.RGBA{ink: {0x22, 0x2b, 0x2b, 255}, faint: {0x8a, 0x95, 0x93, 255},
		inks[0]: {0x0b, 0x6e, 0x6e, 255}, inks[1]: {0xb4, 0x53, 0x09, 255}, inks[2]: {0x4c, 0x3f, 0x91, 255},
		inks[3]: {0x2f, 0x85, 0x3d, 255}, inks[4]: {0xa0, 0x2c, 0x5a, 255}, inks[5]: {0x55, 0x60, 0x70, 255},
		inks[6]: {0x7a, 0x6a, 0x10, 255}}
	dashes = [][]vg.Length{{}, {6, 3}, {2, 2}, {9, 3, 2, 3}, {12, 4}, {3, 5}, {1, 3}}
	shapes = []draw.GlyphDrawer{draw.CircleGlyph{}, draw.TriangleGlyph{}, draw.SquareGlyph{}, draw.CrossGlyph{},
		draw.PyramidGlyph{}, draw.RingGlyph{}, draw.PlusGlyph{}}
)

// plot lays a chart out; tint says which colours it is drawn in.
func (c *Chart) plot(tint func(color.RGBA) color.Color) (*plot.Plot, error) {
	p := plot.New()
	p.BackgroundColor = color.Transparent
	text := font.Font{Typeface: "Liberation", Variant: "Sans", Size: 10}
	for _, a := range []*plot.Axis{&p.X, &p.Y} {
		a.Color, a.Label.TextStyle.Color, a.Tick.Color, a.Tick.Label.Color = tint(faint), tint(ink), tint(faint),
			tint(ink)
		a.Tick.Label.Font, a.Label.TextStyle.Font = text, text
		a.Padding = 3
	}
	p.Legend.TextStyle.Color, p.Legend.TextStyle.Font = tint(ink), text
	p.Legend.Top, p.Legend.Left = true, true
	p.Legend.Padding = 2
	grid := plotter.NewGrid()
	grid.Vertical.Width = 0
	grid.Horizontal.Color, grid.Horizontal.Width = tint(faint), 0.3
	p.Add(grid)
	top := 0.0
	for i, s := range c.Series {
		xys := make(plotter.XYs, len(s.Samples))
		for j, x := range s.Samples {
			xys[j] = plotter.XY{X: float64(x.Time.Unix()), Y: x.Value}
			top = math.Max(top, x.Value)
		}
		if len(xys) == 0 {
			continue
		}
		k := i % len(inks)
		if c.Dots || len(xys) == 1 {
			dots, err := plotter.NewScatter(xys)
			if err != nil {
				return nil, err
			}
			dots.Color, dots.Shape, dots.Radius = tint(inks[k]), shapes[k], 2.8
			p.Add(dots)
			p.Legend.Add(s.Name, dots)
			continue
		}
		line, err := plotter.NewLine(xys)
		if err != nil {
			return nil, err
		}
		line.Color, line.Dashes, line.Width = tint(inks[k]), dashes[k], 1.6
		p.Add(line)
		p.Legend.Add(s.Name, line)
	}
	p.X.Min, p.X.Max = float64(c.From.Unix()), float64(c.To.Unix())
	p.X.Tick.Marker = timeTicks{c.From, c.To}
	p.Y.Min = 0
	// The names stand above what is drawn.
	if p.Y.Max = top * 1.1 / (1 - 0.055*float64(len(c.Series))); top == 0 {
		p.Y.Max = 1
	}
	p.Y.Tick.Marker = unitTicks{c.Unit}
	return p, nil
}

// SVG returns the chart as an element for a page: its colours are the variables --ink, --faint and
// --c0 to --c6 of the page's style sheet. Width and height are in points.
func (c *Chart) SVG(width, height float64) (string, error) {
	p, err := c.plot(func(r color.RGBA) color.Color { return r })
	if err != nil {
		return "", err
	}
	canvas := vgsvg.NewWith(vgsvg.UseWH(vg.Length(width), vg.Length(height)))
	p.Draw(draw.New(canvas))
	var out bytes.Buffer
	if _, err := canvas.WriteTo(&out); err != nil {
		return "", err
	}
	return inline(out.String(), c.Title), nil
}

var (
	svgBegins = regexp.MustCompile(`(?s)^.*?<svg [^>]*viewBox="([^"]*)"[^>]*>`)
	tints     = regexp.MustCompile(`#0[12]0[12]0[0-6]`)
	fonts     = regexp.MustCompile(`font-(?:family|variant|weight|style):[^;"]*;?`)
	empties   = regexp.MustCompile(`<path [^>]*fill-opacity:0"\s*/>\n?`)
	styles    = regexp.MustCompile(`\s+style="([^"]*)"`)
)

// inline makes a picture a part of a page.
func inline(svg, title string) string {
	svg = svgBegins.ReplaceAllString(svg, fmt.Sprintf(
		`<svg viewBox="$1" role="img" aria-label="%s" class="chart">`, escape(title)))
	svg = fonts.ReplaceAllString(empties.ReplaceAllString(svg, ""), "")
	// Attributes, as a content security policy forbids styles of elements.
	svg = styles.ReplaceAllStringFunc(svg, func(style string) string {
		var b strings.Builder
		for _, d := range strings.Split(styles.FindStringSubmatch(style)[1], ";") {
			if name, value, ok := strings.Cut(d, ":"); ok {
				fmt.Fprintf(&b, ` %s="%s"`, strings.TrimSpace(name), strings.TrimSpace(value))
			}
		}
		return b.String()
	})
	return tints.ReplaceAllStringFunc(svg, func(hex string) string {
		switch hex {
		case "#010203":
			return "var(--ink)"
		case "#010204":
			return "var(--faint)"
		}
		return "var(--c" + hex[6:] + ")"
	})
}

func escape(s string) string {
	return strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&quot;").Replace(s)
}

// timeTicks are at round times, about six of them.
type timeTicks struct{ from, to time.Time }

// Ticks implements [plot.Ticker].
func (t timeTicks) Ticks(_, _ float64) (out []plot.Tick) {
	span := t.to.Sub(t.from)
	step, layout := 365*24*time.Hour, "2006-01"
	for _, s := range []struct {
		step   time.Duration
		layout string
	}{{time.Minute, "15:04"}, {5 * time.Minute, "15:04"}, {15 * time.Minute, "15:04"}, {time.Hour, "15:04"},
		{3 * time.Hour, "01-02 15:04"}, {12 * time.Hour, "01-02 15:04"}, {24 * time.Hour, "01-02"},
		{2 * 24 * time.Hour, "01-02"}, {5 * 24 * time.Hour, "01-02"}, {14 * 24 * time.Hour, "01-02"},
		{30 * 24 * time.Hour, "2006-01-02"}, {91 * 24 * time.Hour, "2006-01-02"}} {
		if span/s.step <= 7 {
			step, layout = s.step, s.layout
			break
		}
	}
	_, offset := t.from.Local().Zone()
	local := time.Duration(offset) * time.Second
	first := t.from.Add(local).Truncate(step).Add(step).Add(-local)
	for at := first; at.Before(t.to); at = at.Add(step) {
		out = append(out, plot.Tick{Value: float64(at.Unix()), Label: at.Local().Format(layout)})
	}
	return out
}

// unitTicks are at round values of a unit.
type unitTicks struct{ unit Unit }

// Ticks implements [plot.Ticker].
func (u unitTicks) Ticks(_, most float64) (out []plot.Tick) {
	step := roundStep(most/4, u.unit)
	for v := 0.0; v <= most; v += step {
		out = append(out, plot.Tick{Value: v, Label: u.unit.text(v)})
	}
	return out
}

// roundStep returns a round step that is at least so large.
func roundStep(least float64, u Unit) float64 {
	base := 1.0
	if u == Bytes {
		for ; ; base *= 1024 {
			for _, m := range []float64{1, 2, 5, 10, 20, 50, 100, 200, 500} {
				if base*m >= least {
					return base * m
				}
			}
		}
	}
	switch {
	case least >= 3600:
		base = 3600
	case least >= 60:
		base = 60
	default:
		for base > least {
			base /= 10
		}
	}
	for {
		for _, m := range []float64{1, 2, 5} {
			if base*m >= least {
				return base * m
			}
		}
		base *= 10
	}
}

func (u Unit) text(v float64) string {
	if u == Bytes {
		return humanize.IBytes(uint64(v))
	}
	d := time.Duration(v * float64(time.Second))
	switch {
	case v == 0:
		return "0"
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < time.Minute:
		return fmt.Sprintf("%g s", v)
	case d < time.Hour:
		return fmt.Sprintf("%g min", v/60)
	}
	return fmt.Sprintf("%g h", v/3600)
}

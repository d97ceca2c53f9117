package report

import (
	"fmt"
	"image/color"
	"io"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"
	"gonum.org/v1/plot/vg/vgsvg"
)

// Picture is charts below one another, for a file.
type Picture struct {
	Charts []Chart
	// Rows, where there are any, are ribbons of which moments can be restored, between From and To.
	Rows     []*Cluster
	From, To time.Time
}

const (
	pictureWidth = vg.Length(900)
	chartHeight  = vg.Length(280)
	rowHeight    = vg.Length(26)
)

// Write writes the picture on white, as PNG or as SVG.
func (p *Picture) Write(w io.Writer, png bool) error {
	var plots []*plot.Plot
	var heights []vg.Length
	for i := range p.Charts {
		x, err := p.Charts[i].plot(printed)
		if err != nil {
			return err
		}
		titled(x, p.Charts[i].Title)
		plots, heights = append(plots, x), append(heights, chartHeight)
	}
	if len(p.Rows) > 0 {
		x, err := p.ribbons()
		if err != nil {
			return err
		}
		plots, heights = append(plots, x), append(heights, 90+rowHeight*vg.Length(len(p.Rows)))
	}
	if len(plots) == 0 {
		return fmt.Errorf("there is nothing to draw")
	}
	height := vg.Length(0)
	for _, h := range heights {
		height += h
	}
	var canvas vg.CanvasWriterTo
	if png {
		canvas = vgimg.PngCanvas{Canvas: vgimg.NewWith(vgimg.UseWH(pictureWidth, height), vgimg.UseDPI(120))}
	} else {
		canvas = vgsvg.New(pictureWidth, height)
	}
	all := draw.NewCanvas(canvas, pictureWidth, height)
	all.FillPolygon(color.White, []vg.Point{{}, {X: pictureWidth}, {X: pictureWidth, Y: height}, {Y: height}})
	top := height
	for i, x := range plots {
		part := draw.Crop(all, 8, -16, top-heights[i]+6, top-height-6)
		x.Draw(part)
		top -= heights[i]
	}
	_, err := canvas.WriteTo(w)
	return err
}

// printed returns the colours of pictures, which have no style sheet.
func printed(c color.RGBA) color.Color { return onPaper[c] }

func titled(p *plot.Plot, title string) {
	p.Title.Text = title
	p.Title.TextStyle.Font = font.Font{Typeface: "Liberation", Variant: "Sans", Size: 12}
	p.Title.Padding = 6
}

// ribbons lays out a row a cluster: a band where every moment can be restored, a tick for a point, a
// cross where a gap is.
func (p *Picture) ribbons() (*plot.Plot, error) {
	empty := Chart{From: p.From, To: p.To}
	x, err := empty.plot(printed)
	if err != nil {
		return nil, err
	}
	titled(x, "Which moments can be restored: bands every moment, ticks points, crosses gaps")
	var names []plot.Tick
	for i, c := range p.Rows {
		y := float64(len(p.Rows) - i)
		names = append(names, plot.Tick{Value: y, Label: c.Name})
		for _, s := range c.Stretches {
			line, err := plotter.NewLine(plotter.XYs{{X: seconds(s[0], p.From), Y: y},
				{X: seconds(s[1], p.From), Y: y}})
			if err != nil {
				return nil, err
			}
			line.Color, line.Width = printed(inks[0]), 9
			x.Add(line)
		}
		if err := dots(x, c.Times, p.From, y, tick{}, ink); err != nil {
			return nil, err
		}
		var gaps []time.Time
		for _, g := range c.Gaps {
			gaps = append(gaps, g.From.Add(g.To.Sub(g.From)/2))
		}
		if err := dots(x, gaps, p.From, y, draw.CrossGlyph{}, inks[4]); err != nil {
			return nil, err
		}
	}
	x.Y.Min, x.Y.Max, x.Y.Tick.Marker = 0.4, float64(len(p.Rows))+0.6, plot.ConstantTicks(names)
	return x, nil
}

// seconds is a time as charts have it, but not before their beginning.
func seconds(t, from time.Time) float64 { return float64(max(t.Unix(), from.Unix())) }

// tick is the mark of a point.
type tick struct{}

// DrawGlyph implements [draw.GlyphDrawer].
func (tick) DrawGlyph(c *draw.Canvas, s draw.GlyphStyle, at vg.Point) {
	c.SetLineStyle(draw.LineStyle{Color: s.Color, Width: 1.2})
	c.StrokeLine2(draw.LineStyle{Color: s.Color, Width: 1.2}, at.X, at.Y-8, at.X, at.Y+8)
}

func dots(p *plot.Plot, times []time.Time, from time.Time, y float64, shape draw.GlyphDrawer, tint color.RGBA) error {
	var xys plotter.XYs
	for _, t := range times {
		if !t.Before(from) {
			xys = append(xys, plotter.XY{X: float64(t.Unix()), Y: y})
		}
	}
	if len(xys) == 0 {
		return nil
	}
	s, err := plotter.NewScatter(xys)
	if err != nil {
		return err
	}
	s.Shape, s.Color, s.Radius = shape, printed(tint), 5
	p.Add(s)
	return nil
}

package show

import (
	"bytes"
	"fmt"
	"image/color"
	"path/filepath"
	"strings"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"
	"gonum.org/v1/plot/vg/vgsvg"

	"pravet/internal/core/access"
)

// PlotFormats are the endings of files that a plot can be written to.
var PlotFormats = []string{".png", ".svg"}

// maxPanels is how many licenses one plot shows.
const maxPanels = 12

// The colours of a plot: as on the terminal, for a white page.
var (
	needed  = color.RGBA{0x00, 0x72, 0xb2, 0xff}
	bought  = color.RGBA{0x60, 0x60, 0x60, 0xff}
	lacking = color.RGBA{0xd5, 0x5e, 0x00, 0xff}
	grid    = color.RGBA{0xe4, 0xe4, 0xe4, 0xff}
)

// SeatsPlot draws the seats needed of each license month by month, beside those
// bought: a panel each. name tells the format by its ending.
func SeatsPlot(v *access.View, months []access.Month, name string) ([]byte, error) {
	licenses := v.Licenses()
	if len(licenses) == 0 {
		return nil, fmt.Errorf("there is no license to draw")
	}
	if len(licenses) > maxPanels {
		return nil, fmt.Errorf(
			"there are %d licenses, and a plot shows %d; choose with --app",
			len(licenses),
			maxPanels,
		)
	}
	columns := 1
	if len(licenses) > 3 {
		columns = 2
	}
	rows := (len(licenses) + columns - 1) / columns
	panels := make([][]*plot.Plot, rows)
	for r := range panels {
		panels[r] = make([]*plot.Plot, columns)
	}
	for i := range licenses {
		p, err := panel(v, months, i)
		if err != nil {
			return nil, err
		}
		panels[i/columns][i%columns] = p
	}
	const wide, high = 1280, 800
	var out interface {
		vg.CanvasSizer
		WriteTo(w *bytes.Buffer) error
	}
	if strings.EqualFold(filepath.Ext(name), ".svg") {
		out = &svgCanvas{vgsvg.New(wide*vg.Inch/96, high*vg.Inch/96)}
	} else {
		out = &pngCanvas{vgimg.NewWith(vgimg.UseWH(wide*vg.Inch/96, high*vg.Inch/96), vgimg.UseDPI(96))}
	}
	tiles := draw.Tiles{
		Rows:      rows,
		Cols:      columns,
		PadX:      24,
		PadY:      12,
		PadTop:    8,
		PadBottom: 8,
		PadLeft:   8,
		PadRight:  24,
	}
	canvases := plot.Align(panels, tiles, draw.New(out))
	for r := range panels {
		for c, p := range panels[r] {
			if p != nil {
				p.Draw(canvases[r][c])
			}
		}
	}
	var b bytes.Buffer
	err := out.WriteTo(&b)
	return b.Bytes(), err
}

type pngCanvas struct{ *vgimg.Canvas }

func (c *pngCanvas) WriteTo(w *bytes.Buffer) error {
	_, err := (vgimg.PngCanvas{Canvas: c.Canvas}).WriteTo(w)
	return err
}

type svgCanvas struct{ *vgsvg.Canvas }

func (c *svgCanvas) WriteTo(w *bytes.Buffer) error {
	_, err := c.Canvas.WriteTo(w)
	return err
}

// panel draws one license.
func panel(v *access.View, months []access.Month, license int) (*plot.Plot, error) {
	x := v.Licenses()[license]
	thing := &v.Apps[x.App].Things[x.Thing]
	p := plot.New()
	p.Title.Text = v.Apps[x.App].Address(x.Thing).String()
	for _, style := range []*text.Style{
		&p.Title.TextStyle, &p.X.Tick.Label, &p.Y.Tick.Label, &p.Y.Label.TextStyle, &p.Legend.TextStyle,
	} {
		style.Font.Variant = "Sans"
	}
	p.Title.TextStyle.Font.Size = 13
	p.Title.Padding = 6
	p.Y.Label.Text = "seats"
	p.X.Tick.Marker = monthTicks{}
	p.X.Tick.Label.Rotation = 0
	p.X.Tick.Label.YAlign, p.X.Tick.Label.XAlign = text.YTop, text.XCenter
	p.Y.Tick.Marker = wholeTicks{}
	p.Legend.Top, p.Legend.Left = true, true
	p.Legend.YOffs = -2
	lines := plotter.NewGrid()
	lines.Vertical.Color, lines.Horizontal.Color = grid, grid
	p.Add(lines)

	end := months[len(months)-1].From.NextMonth()
	var steps plotter.XYs
	most := 0
	for i, m := range months {
		until := end
		if i+1 < len(months) {
			until = months[i+1].From
		}
		n := float64(m.Needed[license])
		steps = append(steps, plotter.XY{X: float64(m.From), Y: n}, plotter.XY{X: float64(until), Y: n})
		most = max(most, m.Needed[license])
		if thing.Seats >= 0 && m.Needed[license] > thing.Seats {
			area, err := plotter.NewPolygon(plotter.XYs{
				{X: float64(m.From), Y: float64(thing.Seats)},
				{X: float64(until), Y: float64(thing.Seats)},
				{X: float64(until), Y: n},
				{X: float64(m.From), Y: n},
			})
			if err != nil {
				return nil, err
			}
			area.Color, area.LineStyle.Width = color.RGBA{0xf2, 0xc5, 0xa8, 0xff}, 0
			p.Add(area)
		}
	}
	line, err := plotter.NewLine(steps)
	if err != nil {
		return nil, err
	}
	line.Color, line.Width = needed, vg.Points(2)
	if thing.Seats >= 0 {
		limit, err := plotter.NewLine(plotter.XYs{
			{X: float64(months[0].From), Y: float64(thing.Seats)},
			{X: float64(end), Y: float64(thing.Seats)},
		})
		if err != nil {
			return nil, err
		}
		limit.Color, limit.Width, limit.Dashes = bought, vg.Points(1.5), []vg.Length{vg.Points(6), vg.Points(4)}
		p.Add(limit)
		p.Legend.Add(fmt.Sprintf("%d bought", thing.Seats), limit)
		if most > thing.Seats {
			p.Title.Text += fmt.Sprintf(": short by %d", most-thing.Seats)
			p.Title.TextStyle.Color = lacking
		}
		most = max(most, thing.Seats)
	}
	p.Add(line)
	p.Legend.Add("needed or not freed", line)
	p.Y.Min, p.Y.Max = 0, float64(most)*1.35+1
	p.X.Min, p.X.Max = float64(months[0].From), float64(end)
	return p, nil
}

// monthTicks marks the first of every month, and names as many as there is room
// for.
type monthTicks struct{}

func (monthTicks) Ticks(from, to float64) (out []plot.Tick) {
	at := time.Unix(int64(from)*86400, 0).UTC()
	first := time.Date(at.Year(), at.Month(), 1, 0, 0, 0, 0, time.UTC)
	months := int((to-from)/30) + 1
	every := max(1, (months+11)/12)
	for i := 0; ; i++ {
		m := first.AddDate(0, i, 0)
		day := float64(m.Unix() / 86400)
		if day > to {
			return out
		}
		if day < from {
			continue
		}
		label := ""
		if i%every == 0 {
			label = m.Format("2006-01")
		}
		out = append(out, plot.Tick{Value: day, Label: label})
	}
}

// wholeTicks marks whole numbers, about five of them.
type wholeTicks struct{}

func (wholeTicks) Ticks(from, to float64) (out []plot.Tick) {
	step := 1
	for _, f := range []int{
		2, 5, 10, 20, 50, 100, 200, 500, 1000, 2000, 5000, 10000, 20000, 50000, 100000, 200000, 500000, 1000000,
	} {
		if to/float64(step) > 6 {
			step = f
		}
	}
	for n := 0; float64(n) <= to; n += step {
		out = append(out, plot.Tick{Value: float64(n), Label: fmt.Sprint(n)})
	}
	return out
}

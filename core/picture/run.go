package picture

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"fernladder/core/quantity"
	"fernladder/core/timeline"
)

// The sizes of a run's parts.
const (
	runW, runLabel = 1240.0, 216.0
	rowH           = 24.0
	chartH         = 110.0
	mostRows       = 80
)

// Run draws a run of builds over time: above, how many processors were busy and job slots in use;
// below, a row for each build with its stages. On a cluster, the rows are grouped by node.
func Run(r *timeline.Run) *Picture {
	d := runDrawing{Run: r, path: map[int]bool{}}
	steps := r.Path()
	for _, s := range steps {
		d.path[s.Build] = true
	}
	began, shows, lines := r.Began.UTC().Format("2006-01-02 15:04 UTC"), about(r), findings(r, steps)
	d.Picture = &Picture{Title: "Builds of " + began, About: shows + " " + strings.Join(lines, " "), W: runW}
	rows, left := d.rows()
	chart := chartH
	if r.Slots == 0 {
		chart = 0
	}
	d.top = titleH + 14 + chart + 30
	d.H = d.top + float64(len(rows))*rowH + 30 + float64(truth(left > 0))*rowH + float64(len(lines))*20 + 44
	p := d.Picture
	p.heading(shows)
	d.axis(d.top-30, d.top+float64(len(rows))*rowH+6)
	if chart > 0 {
		d.chart(titleH+14, chart)
	}
	at := map[int]float64{}
	y, node := d.top, ""
	for k, i := range rows {
		b := r.Builds[i]
		if k%2 == 0 {
			p.rect("rung", margin/2, y, p.W-margin, rowH, 3, "")
		}
		if b.Node != "" && b.Node != node {
			p.words("soft", margin, y+16, 11, 60, 0, true, b.Node)
			node = b.Node
		}
		indent := 66 * float64(truth(b.Node != ""))
		p.words("ink", margin+indent, y+16, 12.5, runLabel-8-indent, 0, d.path[i], b.Name+" "+b.Version)
		d.row(b, d.path[i], y)
		at[i] = y
		y += rowH
	}
	if left > 0 {
		p.words("soft", margin, y+16, 12.5, 600, 0, false, quantity.Count(left, "more build")+", shorter than these")
		y += rowH
	}
	for k := 1; k < len(steps); k++ {
		_, from, _ := r.Builds[steps[k-1].Build].Bounds()
		to, _, _ := r.Builds[steps[k].Build].Bounds()
		above, below := at[steps[k-1].Build], at[steps[k].Build]
		if above == 0 || below == 0 {
			continue
		}
		class := "path"
		if steps[k].Slot {
			class = "slot"
		}
		p.line(class, point{d.x(from), above + rowH - 5}, point{d.x(from), below + 5}, point{d.x(to), below + 5})
	}
	y += 34
	d.legend(y, steps)
	y += 30
	for _, line := range lines {
		p.words("ink", margin, y, 13, p.W-2*margin, 0, false, line)
		y += 20
	}
	return p
}

// about says what came of a run.
func about(r *timeline.Run) string {
	text := fmt.Sprintf("%s in %s", quantity.Count(r.Count(timeline.Built), "build"), quantity.Seconds(r.Seconds))
	if r.Slots > 0 {
		text += " with " + quantity.Count(r.Slots, "job slot")
	}
	if r.Expected > 0 {
		text += fmt.Sprintf(" (forecast: %s)", quantity.Seconds(r.Expected))
	}
	for _, o := range []struct{ outcome, words string }{{timeline.Taken, "taken from depots"}, {timeline.Failed, "failed"},
		{timeline.Skipped, "not built because of that"}, {timeline.Stopped, "stopped as requested"},
		{timeline.Unfinished, "not finished"}} {
		if n := r.Count(o.outcome); n > 0 {
			text += fmt.Sprintf(", %d %s", n, o.words)
		}
	}
	if r.Interrupted {
		text += "; interrupted"
	}
	return text + "."
}

// findings says what set the length of a run, and what kept processors idle.
func findings(r *timeline.Run, path []timeline.Step) (lines []string) {
	var names []string
	for _, s := range path {
		name := r.Builds[s.Build].Name
		if s.Slot {
			name += " (which waited for a job slot)"
		}
		names = append(names, name)
	}
	const few = 12
	if more := len(names) - few; more > 0 {
		names = slices.Concat(names[:few/2], []string{fmt.Sprintf("%d more", more)}, names[len(names)-few/2:])
	}
	if len(names) > 0 {
		lines = append(lines, "What set the length: "+strings.Join(names, ", then ")+".")
	}
	if all := float64(r.Slots) * r.Seconds; all > 0 {
		idle, causes := 0.0, r.Idle()
		var texts []string
		for _, c := range causes {
			idle += c.Seconds
		}
		for _, c := range causes[:min(len(causes), 5)] {
			if c.Seconds/idle >= 0.01 {
				texts = append(texts, fmt.Sprintf("%s %d %%", IdleWords(c.What), int(100*c.Seconds/idle+0.5)))
			}
		}
		line := fmt.Sprintf("Processors were busy for %d %% of the time", int(100*(1-idle/all)+0.5))
		if len(texts) > 0 {
			line += "; of the idle time: " + strings.Join(texts, ", ")
		}
		lines = append(lines, line+".")
	}
	return lines
}

// IdleWords are the words for a cause of idle processors.
func IdleWords(cause string) string {
	switch cause {
	case timeline.IdleFetching, timeline.IdleBetween:
		return cause
	}
	return "in " + cause
}

type runDrawing struct {
	*timeline.Run
	*Picture
	path map[int]bool
	top  float64
}

func (d *runDrawing) x(at float64) float64 {
	from, to := margin+runLabel, runW-margin-92
	return from + (to-from)*min(1, at/max(d.Seconds, 1e-9))
}

// rows are the builds that have a row, by their begin, and how many have none.
func (d *runDrawing) rows() (rows []int, left int) {
	for i := range d.Builds {
		rows = append(rows, i)
	}
	if len(rows) > mostRows {
		length := func(i int) float64 {
			from, to, _ := d.Builds[i].Bounds()
			return to - from + 1e9*float64(truth(d.path[i])+truth(d.Builds[i].Outcome == timeline.Failed))
		}
		slices.SortStableFunc(rows, func(a, b int) int { return cmp.Compare(length(b), length(a)) })
		rows, left = rows[:mostRows], len(rows)-mostRows
	}
	left += d.Unlisted
	begin := func(i int) float64 {
		from, _, ran := d.Builds[i].Bounds()
		if !ran {
			return math.Inf(1)
		}
		return from
	}
	slices.SortStableFunc(rows, func(a, b int) int {
		return cmp.Or(cmp.Compare(d.Builds[a].Node, d.Builds[b].Node), cmp.Compare(begin(a), begin(b)), cmp.Compare(a, b))
	})
	return rows, left
}

// axis draws the lines of time, from the chart to the last row.
func (d *runDrawing) axis(label, bottom float64) {
	step := niceStep(d.Seconds / 8)
	for at := 0.0; at <= d.Seconds && step > 0; at += step {
		x := d.x(at)
		d.line("grid", point{x, titleH + 10}, point{x, bottom})
		d.words("soft", x, label+17, 11.5, 80, 0.5, false, clock(at))
	}
}

// niceStep is the next larger step that people count in.
func niceStep(s float64) float64 {
	for _, step := range []float64{0.001, 0.01, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 30, 60, 120, 300, 600, 1200,
		1800, 3600, 7200, 14400, 36000, 86400} {
		if step >= s {
			return step
		}
	}
	return math.Ceil(s/86400) * 86400
}

// clock writes a moment of a run.
func clock(s float64) string {
	switch {
	case s < 1:
		return fmt.Sprintf("%.3g s", s)
	case s < 60:
		return fmt.Sprintf("%.4g s", s)
	case s < 3600:
		return fmt.Sprintf("%d:%02d min", int(s)/60, int(s)%60)
	}
	return fmt.Sprintf("%d:%02d h", int(s)/3600, int(s)/60%60)
}

// chart draws the processors that were busy, and the slots in use.
func (d *runDrawing) chart(top, high float64) {
	scale := func(n float64) float64 { return top + high - (high-14)*n/float64(d.Slots) }
	d.words("soft", margin, top+high-40, 12, runLabel-20, 0, true, "processors busy")
	d.words("soft", margin, top+high-22, 12, runLabel-20, 0, false, "slots in use (line)")
	d.words("soft", margin+runLabel-8, scale(float64(d.Slots))+4, 11, 60, 1, false, fmt.Sprint(d.Slots))
	d.words("soft", margin+runLabel-8, scale(0)+4, 11, 60, 1, false, "0")
	for _, l := range d.Load() {
		if l.Processors > 0 {
			x := d.x(l.From)
			d.rect("busy", x, scale(l.Processors), d.x(l.To)-x, scale(0)-scale(l.Processors), 0, "")
		}
	}
	d.line("limit", point{d.x(0), scale(float64(d.Slots))}, point{d.x(d.Seconds), scale(float64(d.Slots))})
	var points []point
	for i, l := range d.InUse {
		y := scale(float64(min(l.Slots, d.Slots)))
		if i > 0 {
			points = append(points, point{d.x(l.At), points[len(points)-1].y})
		}
		points = append(points, point{d.x(l.At), y})
	}
	if n := len(points); n > 0 {
		d.line("used", append(points, point{d.x(d.Seconds), points[n-1].y})...)
	}
}

// row draws a build: downloads as a dashed line, configure as a low box, compile as a high one,
// other stages as a line.
func (d *runDrawing) row(b timeline.Build, onPath bool, y float64) {
	end := 0.0
	for _, s := range b.Spans {
		x, wide := d.x(s.From), max(0.8, d.x(s.To)-d.x(s.From))
		tip := fmt.Sprintf("%s %s, %s: %s", b.Name, b.Version, s.Stage, quantity.Seconds(s.Seconds()))
		if s.CPU > 0 {
			tip += fmt.Sprintf(" (%.1f processors)", s.CPU/max(s.Seconds(), 0.001))
		}
		end = max(end, s.To)
		switch s.Stage {
		case timeline.Fetch:
			d.line("fetch", point{x, y + rowH/2}, point{x + wide, y + rowH/2})
		case "configure":
			d.rect("configure", x, y+8, wide, rowH-16, 0, tip)
		case "compile":
			d.rect("compile", x, y+4, wide, rowH-8, 0, tip)
		default:
			d.rect("stage", x, y+10, wide, rowH-20, 0, tip)
		}
	}
	from, to, ran := b.Bounds()
	if ran && b.Expected > 0 && from+b.Expected <= d.Seconds { // where it should have ended
		x := d.x(from + b.Expected)
		d.line("limit", point{x, y + 2}, point{x, y + rowH - 2})
		d.shape("solid", point{x - 3, y + 1}, point{x + 3, y + 1}, point{x, y + 5})
	}
	if onPath {
		d.line("path", point{d.x(from), y + rowH - 3}, point{d.x(to), y + rowH - 3})
	}
	text, class := "", "soft"
	switch {
	case b.Outcome == timeline.Skipped:
		text = "not built: it needs " + b.Because
	case b.Outcome == timeline.Failed:
		class, text = "badtext", "failed"
		if n := len(b.Spans); n > 0 {
			text += " in " + b.Spans[n-1].Stage
		}
	case b.Outcome == timeline.Unfinished:
		text = "not finished"
	case ran:
		text = quantity.Seconds(to - from)
	}
	x := d.x(end) + 8
	if b.Outcome == timeline.Failed {
		d.line("bad", point{x, y + 8}, point{x + 8, y + 16})
		d.line("bad", point{x, y + 16}, point{x + 8, y + 8})
		x += 14
	}
	if room := runW - margin - x; width(text, 12, false) > room { // it goes before the bar's end
		x = max(margin+runLabel, d.x(from)-8-width(text, 12, false))
	}
	d.words(class, x, y+16, 12, max(40, runW-margin-x), 0, false, text)
}

func (d *runDrawing) legend(y float64, steps []timeline.Step) {
	x := margin
	stages, slot, forecast := map[string]bool{}, false, false
	for _, b := range d.Builds {
		forecast = forecast || b.Expected > 0
		for _, s := range b.Spans {
			stages[s.Stage] = true
		}
	}
	for _, s := range steps {
		slot = slot || s.Slot
	}
	add := func(text string, sign func()) {
		sign()
		d.words("soft", x+38, y+4, 12, 400, 0, false, text)
		x += 38 + width(text, 12, false) + 24
	}
	if stages[timeline.Fetch] {
		add("download", func() { d.line("fetch", point{x, y}, point{x + 30, y}) })
	}
	if stages["configure"] {
		add("configure", func() { d.rect("configure", x, y-4, 30, 8, 0, "") })
	}
	if stages["compile"] {
		add("compile", func() { d.rect("compile", x, y-8, 30, 16, 0, "") })
	}
	add("other stages", func() { d.rect("stage", x, y-2, 30, 4, 0, "") })
	if forecast {
		add("end by the forecast", func() {
			d.line("limit", point{x + 15, y - 10}, point{x + 15, y + 10})
			d.shape("solid", point{x + 12, y - 11}, point{x + 18, y - 11}, point{x + 15, y - 7})
		})
	}
	if len(steps) > 0 {
		add("what set the length", func() { d.line("path", point{x, y}, point{x + 30, y}) })
	}
	if slot {
		add("waited for its job slot", func() { d.line("slot", point{x, y}, point{x + 30, y}) })
	}
}

package cli

import (
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"reshard/internal/core/fit"
	"reshard/internal/core/plan"
)

// marks pair each verdict and state with a shape, so that nothing hangs on a
// colour alone.
var marks = map[string]string{
	string(fit.Fits): "✓", string(fit.Adjust): "→", string(fit.Choose): "?", string(fit.Blocks): "✕",
	"running": "▶", "starting": "◔", "stopping": "◕", "stopped": "■", "exited": "✕",
	"unknown": "?", "unreachable": "?",
	string(plan.Drafted): "·", string(plan.Staging): "◔", string(plan.Waiting): "◷", string(plan.Switching): "◑",
	string(plan.Proving): "◕",
	string(plan.Done):    "✓", string(plan.Undoing): "↶", string(plan.Undone): "↩", string(plan.Held): "‖",
}

func marked[S ~string](state S) string { return marks[string(state)] + " " + string(state) }

// table renders rows under headings, wrapped to the terminal's width.
func (a *app) table(headings []string, rows [][]string, widths ...int) {
	t := table.NewWriter()
	t.SetOutputMirror(a.Out)
	t.SetStyle(table.StyleLight)
	t.Style().Options = table.Options{
		DrawBorder:      false,
		SeparateColumns: false,
		SeparateHeader:  true,
		SeparateRows:    false,
	}
	t.Style().Format.Header = text.FormatDefault
	t.Style().Box.PaddingLeft, t.Style().Box.PaddingRight = "", "   "
	header := table.Row{}
	for _, h := range headings {
		header = append(header, h)
	}
	t.AppendHeader(header)
	for _, r := range rows {
		row := table.Row{}
		for i, cell := range r {
			if cell == "" && i < len(r)-1 {
				cell = "–"
			}
			row = append(row, cell)
		}
		t.AppendRow(row)
	}
	var configs []table.ColumnConfig
	for i, w := range widths {
		if w > 0 {
			configs = append(configs, table.ColumnConfig{Number: i + 1, WidthMax: w, WidthMaxEnforcer: text.WrapSoft})
		}
	}
	t.SetColumnConfigs(configs)
	t.SuppressTrailingSpaces()
	t.Render()
}

func bytesText(n int64) string {
	if n < 0 {
		return "unknown"
	}
	return humanize.IBytes(uint64(n))
}

func count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return humanize.Comma(int64(n)) + " " + many
}

func when(t time.Time) string {
	if t.IsZero() {
		return "unknown"
	}
	return t.Local().Format("2006-01-02 15:04")
}

func millis(ms int64) string {
	switch {
	case ms < 0:
		return "not measured yet"
	case ms < 1000:
		return fmt.Sprintf("%d ms", ms)
	}
	return fmt.Sprintf("%.1f s", float64(ms)/1000)
}

// wrapped prints text after a lead, wrapped to the width; later lines stand
// under the first.
func (a *app) wrapped(lead, s string) { a.wrappedTo(a.Out, lead, s) }

func (a *app) wrappedTo(w io.Writer, lead, s string) {
	width := text.StringWidthWithoutEscSequences(lead)
	for _, line := range strings.Split(text.WrapSoft(s, max(40, a.width-width)), "\n") {
		fmt.Fprintf(w, "%s%s\n", lead, strings.TrimRight(line, " "))
		lead = strings.Repeat(" ", width)
	}
}

func quoted(s string) string { return "“" + s + "”" }

// ago says how long something lies back.
func ago(t time.Time) string { return humanize.Time(t) }

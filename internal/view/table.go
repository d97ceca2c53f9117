package view

import (
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
)

// Table is aligned columns without frames. Where a terminal is too narrow for them each row
// becomes a few lines: its first cell, and below it the others, each after its heading.
type Table struct {
	s    *Screen
	w    table.Writer
	head []string
	rows [][]string
}

// Table begins a table. A heading that begins with '>' is of a column of
// numbers, which are flush right.
func (s *Screen) Table(headings ...string) *Table {
	t := &Table{s: s, w: table.NewWriter()}
	style := table.StyleDefault
	style.Options = table.Options{}
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "  "
	style.Format.Header = text.FormatDefault
	t.w.SetStyle(style)
	var cfg []table.ColumnConfig
	row := table.Row{}
	for i, h := range headings {
		h, number := strings.CutPrefix(h, ">")
		align := text.AlignLeft
		if number {
			align = text.AlignRight
		}
		cfg = append(cfg, table.ColumnConfig{Number: i + 1, Align: align, AlignHeader: align})
		row = append(row, s.Faint(h))
		t.head = append(t.head, h)
	}
	t.w.SetColumnConfigs(cfg)
	t.w.AppendHeader(row)
	return t
}

// Row adds a row.
func (t *Table) Row(cells ...any) {
	cells = shown(cells)
	t.w.AppendRow(table.Row(cells))
	var row []string
	for _, c := range cells {
		row = append(row, fmt.Sprint(c))
	}
	t.rows = append(t.rows, row)
}

// Print writes the table, indented by some spaces.
func (t *Table) Print(indent int) {
	lines := strings.Split(t.w.Render(), "\n")
	widest := 0
	for i, l := range lines {
		lines[i] = strings.TrimRight(strings.Repeat(" ", indent)+l, " ")
		widest = max(widest, text.StringWidthWithoutEscSequences(lines[i]))
	}
	if t.s.Bounded && widest > t.s.Width && len(t.head) > 1 {
		lines = t.blocks(indent)
	}
	for _, l := range lines {
		fmt.Fprintln(t.s.Out, l)
	}
}

// blocks returns the rows as lines that fit.
func (t *Table) blocks(indent int) (out []string) {
	inner := strings.Repeat(" ", indent+2)
	for _, row := range t.rows {
		title, line := strings.Repeat(" ", indent), inner
		if len(row) > 0 {
			title += row[0]
		}
		out = append(out, strings.TrimRight(title, " "))
		for i, cell := range row {
			if i == 0 || strings.TrimSpace(cell) == "" {
				continue
			}
			if i < len(t.head) && t.head[i] != "" {
				cell = t.s.Faint(t.head[i]) + " " + cell
			}
			width := text.StringWidthWithoutEscSequences
			switch {
			case line == inner:
				line += cell
			case width(line)+3+width(cell) <= t.s.Width:
				line += "   " + cell
			default:
				out, line = append(out, line), inner+cell
			}
		}
		if line != inner {
			out = append(out, line)
		}
	}
	return out
}

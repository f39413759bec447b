package report

import (
	"encoding/csv"
	"io"
	"strconv"
	"strings"

	"keenlantern.example/internal/core/engine"
)

// CSV writes a row a finding.
func CSV(out io.Writer, r *engine.Result) error {
	rows := [][]string{{"severity", "rule", "id", "title", "service", "key", "implementation", "at", "holder", "holder_at", "path", "seen", "first", "last", "because", "caveat"}}
	for _, f := range causesFirst(r.Findings) {
		holder, holderAt, key, because, caveat := "", "", "", "", ""
		if f.Holder != nil {
			holder, holderAt = f.Holder.Name(), f.Holder.Place()
		}
		if f.Subject.Key != nil {
			key = *f.Subject.Key
		}
		if f.Because != nil {
			because = *f.Because
		}
		if f.Caveat != nil {
			caveat = *f.Caveat
		}
		path := make([]string, len(f.Path))
		for n, p := range f.Path {
			path[n] = p.Name()
		}
		rows = append(rows, []string{
			f.Severity.String(), f.Rule, f.ID, f.Title, f.Subject.Service, key, f.Subject.Impl(), f.Subject.Place(), holder, holderAt,
			strings.Join(path, " > "), strconv.FormatInt(f.Counts["instances"], 10), f.First, f.Last, because, caveat,
		})
	}
	return writeCSV(out, rows)
}

func writeCSV(out io.Writer, rows [][]string) error {
	w := csv.NewWriter(out)
	for _, row := range rows {
		for n := range row {
			row[n] = Cell(Clean(row[n]))
		}
		if err := w.Write(row); err != nil {
			return err
		}
	}
	w.Flush()
	return w.Error()
}

// Cell keeps a name from a trace from being taken for a formula by a spreadsheet.
func Cell(s string) string {
	if s != "" && strings.ContainsRune("=+-@\t\r", rune(s[0])) {
		return "'" + s
	}
	return s
}

package exchange

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"jardin/core/geom"
	"jardin/core/treatment"
)

// A table is a form that tracks take in comma-separated values (RFC 4180).
type table struct {
	columns []string
	needed  int // so many of them, the first ones, have to be there to be read
	// write writes all rows of a track.
	write func(t *Track, row func(frame int, values ...float64), text func(...string)) error
	// read returns what takes the rows, one by one, and makes a track of them.
	read func() rows
}

type rows interface {
	add(l *line)
	track(t *treatment.Track) error
}

// tables are all forms, by the name that they are asked for.
var tables = map[string]table{
	"matrices": matrixTable,
	"corners":  cornerTable,
	"points":   pointTable,
}

// CSV writes a track as a table: its matrices, the corners of its surface, or its points.
func (t *Track) CSV(what string) ([]byte, error) {
	form, ok := tables[what]
	if !ok {
		return nil, fmt.Errorf("%q is nothing that a track holds; choose matrices, corners or points", what)
	}
	var out bytes.Buffer
	w := csv.NewWriter(&out)
	text := func(fields ...string) { _ = w.Write(fields) } // into memory: nothing can fail
	if t.Note != "" {
		out.WriteString("# " + t.Note + "\n") // before the writer has anything
	}
	text(form.columns...)
	err := form.write(t, func(frame int, values ...float64) {
		fields := []string{strconv.Itoa(frame)}
		for _, v := range values {
			fields = append(fields, number(v))
		}
		text(fields...)
	}, text)
	if err != nil {
		return nil, err
	}
	w.Flush()
	return out.Bytes(), w.Error()
}

// A line is a row that is read, with its fields by the names of their columns. What cannot be
// read of it is in err.
type line struct {
	place  map[string]int
	fields []string
	number int // of the line in the file
	err    error
}

func (l *line) has(column string) bool {
	_, ok := l.place[column]
	return ok
}

func (l *line) text(column string) string { return strings.TrimSpace(l.fields[l.place[column]]) }

func (l *line) value(column string) float64 {
	v, err := strconv.ParseFloat(l.text(column), 64)
	if err != nil && l.err == nil {
		l.err = fmt.Errorf(
			"line %d: %s is %q, which is not a number", l.number, column, l.fields[l.place[column]],
		)
	}
	return v
}

func (l *line) frame() int {
	if !l.has("frame") {
		return 0
	}
	return int(l.value("frame"))
}

func readCSV(blob []byte, name string, home int) (*treatment.Track, error) {
	reader := csv.NewReader(bytes.NewReader(blob))
	reader.TrimLeadingSpace, reader.Comment = true, '#'
	head, err := reader.Read()
	if err != nil {
		return nil, errors.New("this is neither JSON nor comma-separated values with a line of column names")
	}
	l := &line{place: map[string]int{}, number: 1}
	for i, h := range head {
		l.place[strings.ToLower(strings.TrimSpace(strings.TrimPrefix(h, "\ufeff")))] = i
	}
	var into rows
	for _, form := range []table{matrixTable, cornerTable, pointTable} {
		if into == nil && !slices.ContainsFunc(form.columns[:form.needed], func(c string) bool { return !l.has(c) }) {
			into = form.read()
		}
	}
	for into != nil {
		l.number++
		if l.fields, err = reader.Read(); errors.Is(err, io.EOF) {
			t := &treatment.Track{Name: name, Home: home, Motion: geom.Perspective}
			return t, into.track(t)
		}
		if err != nil {
			return nil, fmt.Errorf("line %d: %w", l.number, err)
		}
		if into.add(l); l.err != nil {
			return nil, l.err
		}
	}
	return nil, fmt.Errorf(
		"the columns %s are not known; a track has %s, or %s, or %s",
		strings.Join(head, ","),
		strings.Join(matrixTable.columns, ","),
		strings.Join(cornerTable.columns, ","),
		strings.Join(pointTable.columns, ","),
	)
}

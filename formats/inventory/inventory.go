// Package inventory writes a model as a plain list of nodes and links with all
// their fields, in CSV or JSON Lines, and reads such a list back. It works on
// the document as written: variables stay variables.
package inventory

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"sort"
	"strings"

	"ironweir/core/model"
)

// Columns that every row of the CSV has; a column for each field of the model
// follows, with its value as YAML on one line.
var columns = []string{"record", "name", "from", "kind", "to"}

// Records: a node; a link, which leaves the node under from; a section of the
// model beside its nodes, such as prices, whose value stands under value.
const (
	nodeRecord    = "node"
	linkRecord    = "link"
	sectionRecord = "section"
)

// row is one record.
type row struct {
	record, name, from string
	fields             *model.Value
}

// rowsOf lists the records of a model: sections, then each node with its links.
func rowsOf(root *model.Value) []row {
	var rows []row
	for _, f := range root.Fields {
		if f.Key != "nodes" {
			rows = append(rows, row{record: sectionRecord, name: f.Key, fields: model.MapValue().Add("value", f.Value)})
		}
	}
	for _, n := range fieldsOf(root.Get("nodes")) {
		rows = append(rows, row{record: nodeRecord, name: n.Key, fields: n.Value.Without("links")})
		for _, l := range fieldsOf(n.Value.Get("links")) {
			rows = append(rows, row{record: linkRecord, name: l.Key, from: n.Key, fields: l.Value})
		}
	}
	return rows
}

func fieldsOf(v *model.Value) []model.Field {
	if v == nil {
		return nil
	}
	return v.Fields
}

// modelOf puts records together again.
func modelOf(rows []row) (*model.Value, error) {
	root, nodes := model.MapValue(), model.MapValue()
	for _, r := range rows {
		switch r.record {
		case sectionRecord:
			if r.fields.Get("value") == nil {
				return nil, fmt.Errorf("the section %s has no value", r.name)
			}
			root.Add(r.name, r.fields.Get("value"))
		case nodeRecord:
			if nodes.Get(r.name) != nil {
				return nil, fmt.Errorf("the node %s stands twice", r.name)
			}
			nodes.Add(r.name, r.fields)
		case linkRecord:
			n := nodes.Get(r.from)
			if n == nil {
				return nil, fmt.Errorf("the link %s leaves %q, which is not a node above it", r.name, r.from)
			}
			links := n.Get("links")
			if links == nil {
				links = model.MapValue()
				n.Add("links", links)
			}
			if links.Get(r.name) != nil {
				return nil, fmt.Errorf("the link %s:%s stands twice", r.from, r.name)
			}
			links.Add(r.name, r.fields)
		default:
			return nil, fmt.Errorf("the record %q is none of node, link and section", r.record)
		}
	}
	if root.Get("ironweir") == nil {
		root.Fields = append([]model.Field{{Key: "ironweir", Value: model.TextValue("topology/1")}}, root.Fields...)
	}
	return root.Add("nodes", nodes), nil
}

// WriteCSV writes a model as CSV (RFC 4180).
func WriteCSV(w io.Writer, root *model.Value) error {
	rows := rowsOf(root)
	seen := map[string]bool{}
	for _, c := range columns {
		seen[c] = true
	}
	var more []string
	for _, r := range rows {
		for _, f := range r.fields.Fields {
			if !seen[f.Key] {
				seen[f.Key] = true
				more = append(more, f.Key)
			}
		}
	}
	sort.Strings(more)
	if i := slices.Index(more, "value"); i >= 0 { // of sections, before the many fields
		more = append([]string{"value"}, slices.Delete(more, i, i+1)...)
	}
	header := append(append([]string{}, columns...), more...)
	out := csv.NewWriter(w)
	if err := out.Write(header); err != nil {
		return err
	}
	for _, r := range rows {
		cells := []string{r.record, r.name, r.from}
		for _, c := range header[3:] {
			cell := ""
			if v := r.fields.Get(c); v != nil {
				cell = model.Flow(v)
			}
			cells = append(cells, cell)
		}
		if err := out.Write(cells); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

// ReadCSV reads what WriteCSV writes. Errors name the line.
func ReadCSV(file string, text []byte) (*model.Value, error) {
	in := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(text, []byte("\xef\xbb\xbf"))))
	in.FieldsPerRecord = -1
	header, err := in.Read()
	if err != nil {
		return nil, fmt.Errorf("%s: not CSV: %w", file, err)
	}
	at := map[string]int{}
	for i, c := range header {
		c = strings.TrimSpace(c)
		if _, twice := at[c]; twice {
			return nil, fmt.Errorf("%s:1: the column %q stands twice", file, c)
		}
		at[c] = i
	}
	for _, c := range columns[:3] {
		if _, ok := at[c]; !ok {
			return nil, fmt.Errorf(
				"%s:1: there is no column %q; an inventory has record, name, from, and a column for each field",
				file,
				c,
			)
		}
	}
	var rows []row
	for {
		cells, err := in.Read()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", file, err)
		}
		line, _ := in.FieldPos(0)
		cell := func(column string) string {
			if i, ok := at[column]; ok && i < len(cells) {
				return strings.TrimSpace(cells[i])
			}
			return ""
		}
		r := row{record: cell("record"), name: cell("name"), from: cell("from"), fields: model.MapValue()}
		for _, c := range header {
			c = strings.TrimSpace(c)
			if s := cell(c); s != "" && c != "record" && c != "name" && c != "from" {
				v, err := model.ReadDocument(fmt.Sprintf("%s:%d: %s", file, line, c), []byte(s))
				if err != nil {
					return nil, err
				}
				r.fields.Add(c, v)
			}
		}
		rows = append(rows, r)
	}
	return fromRows(file, rows)
}

func fromRows(file string, rows []row) (*model.Value, error) {
	root, err := modelOf(rows)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	return root, nil
}

// WriteLines writes a model as JSON Lines, one record a line.
func WriteLines(w io.Writer, root *model.Value) error {
	for _, r := range rowsOf(root) {
		v := model.MapValue().Add("record", model.TextValue(r.record)).Add("name", model.TextValue(r.name))
		if r.record == linkRecord {
			v.Add("from", model.TextValue(r.from))
		}
		v.Add("fields", r.fields)
		if _, err := fmt.Fprintf(w, "%s\n", JSON(v)); err != nil {
			return err
		}
	}
	return nil
}

// ReadLines reads what WriteLines writes. Errors name the line.
func ReadLines(file string, text []byte) (*model.Value, error) {
	var rows []row
	for i, line := range bytes.Split(text, []byte("\n")) {
		if len(bytes.TrimSpace(line)) == 0 {
			continue
		}
		if !json.Valid(line) {
			return nil, fmt.Errorf("%s:%d: not a JSON object", file, i+1)
		}
		v, err := model.ReadDocument(fmt.Sprintf("%s:%d", file, i+1), line)
		if err != nil {
			return nil, err
		}
		r := row{fields: v.Get("fields")}
		for key, to := range map[string]*string{"record": &r.record, "name": &r.name, "from": &r.from} {
			if f := v.Get(key); f != nil {
				*to = f.Scalar
			}
		}
		if r.fields == nil {
			return nil, fmt.Errorf("%s:%d: the record has no `fields`", file, i+1)
		}
		rows = append(rows, r)
	}
	return fromRows(file, rows)
}

// JSON writes a value as JSON on one line, fields in their order.
func JSON(v *model.Value) string {
	quoted := func(s string) string {
		var b bytes.Buffer
		e := json.NewEncoder(&b)
		e.SetEscapeHTML(false)
		if e.Encode(s) != nil {
			return `""`
		}
		return strings.TrimSuffix(b.String(), "\n")
	}
	switch v.Shape {
	case model.Map:
		parts := make([]string, len(v.Fields))
		for i, f := range v.Fields {
			parts[i] = quoted(f.Key) + ": " + JSON(f.Value)
		}
		return "{" + strings.Join(parts, ", ") + "}"
	case model.List:
		parts := make([]string, len(v.Items))
		for i, item := range v.Items {
			parts[i] = JSON(item)
		}
		return "[" + strings.Join(parts, ", ") + "]"
	case model.Null:
		return "null"
	case model.Number, model.Bool:
		if json.Valid([]byte(v.Scalar)) {
			return v.Scalar
		}
	}
	return quoted(v.Scalar)
}

package main

import (
	"bytes"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/formats/asyncapi"
	"ironweir/formats/incoming"
	"ironweir/formats/inventory"
	"ironweir/formats/mapping"
	"ironweir/formats/picture"
	"ironweir/formats/templates"
	"ironweir/formats/text"
)

const (
	convertFrom = "model|asyncapi|openapi|workflow|csv|jsonl|otlp"
	convertTo   = "model|asyncapi|csv|jsonl|dot|mermaid|text"
)

var convertCommand = &command{
	name:  "convert",
	args:  "IN",
	short: "Turn a model into another open format, or such a file into a model",
	example: `ironweir convert demo/kittiwake.yaml -to asyncapi -out kittiwake.asyncapi.yaml
ironweir convert demo/import/harbour-lamps.asyncapi.yaml -to model > lamps.yaml
ironweir convert demo/kittiwake.yaml -to csv > inventory.csv
ironweir convert inventory.csv -to model
ironweir convert demo/import/yard-export.json -with demo/import/yard-export.mapping.yaml -to model
ironweir convert demo/kittiwake.yaml -to text -with demo/templates/alarms.tmpl -out alarms`,
	run: func(c *call) (int, error) {
		from := c.String(
			"from",
			"",
			"what IN is: `FORMAT` model, asyncapi, openapi, workflow, csv, jsonl, otlp; without it, detected from its name and first lines",
		)
		to := c.String("to", "", "`FORMAT`: model, asyncapi, csv, jsonl, dot, mermaid; text: by a template")
		with := c.String("with", "", "`FILE` of rules (mapping/1) that make a model of IN, or with -to text a template")
		out := c.String("out", "", "write to `FILE` instead of standard output; with -to text, to a folder of that name")
		if err := c.parse(1, 1); err != nil {
			return 0, err
		}
		if *to == "" {
			return 0, fmt.Errorf("-to is missing: %s", strings.ReplaceAll(convertTo, "|", ", "))
		}
		if err := c.oneOf("to", *to, convertTo); err != nil {
			return 0, err
		}
		source, err := c.read(c.Arg(0))
		if err != nil {
			return 0, err
		}
		if *from != "" {
			if err := c.oneOf("from", *from, convertFrom); err != nil {
				return 0, err
			}
		}
		if *to == "text" {
			return c.convertToText(source, *with, *out)
		}
		var in *incoming.Document
		if *with != "" {
			in, err = c.convertWith(source, *with)
		} else {
			in, err = incoming.Read(*from, c.Arg(0), source)
		}
		if err != nil {
			return 0, err
		}
		var made []byte
		if in.Format == incoming.Model && *to == "model" { // in its usual layout, comments kept
			if _, err := c.topologyOf(in.Root); err != nil {
				return 0, err
			}
			if made, err = model.Format(c.Arg(0), source); err != nil {
				return 0, err
			}
		} else if made, err = c.writeAs(*to, in.Root, in.Comments); err != nil {
			return 0, err
		}
		for _, m := range in.Missing {
			fmt.Fprintf(c.err, "not in the document: %s\n", m)
		}
		if *out != "" {
			if err := c.files.Write(*out, made); err != nil {
				return 0, fmt.Errorf("-out: %w", err)
			}
			return exitFine, nil
		}
		_, err = c.out.Write(made)
		return exitFine, err
	},
}

// topologyOf reads the document of the file that is converted, with the parts beside it.
func (c *call) topologyOf(root *model.Value) (*model.Topology, error) {
	return model.FromDocument(c.Arg(0), root, model.Options{Load: c.partsBeside(c.Arg(0))})
}

// writeAs writes the document of a model, which must be one that can be used.
func (c *call) writeAs(format string, root *model.Value, comments map[string]string) ([]byte, error) {
	t, err := c.topologyOf(root)
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	switch format {
	case "asyncapi":
		return model.WriteDocument(asyncapi.Write(root), nil), nil
	case "csv":
		err = inventory.WriteCSV(&out, root)
	case "jsonl":
		err = inventory.WriteLines(&out, root)
	case "dot", "mermaid":
		g, err := graph.Compile(t)
		if err != nil {
			return nil, err
		}
		if format == "dot" {
			return []byte(picture.DOT(g, picture.Options{})), nil
		}
		return []byte(picture.Mermaid(g, picture.Options{})), nil
	default:
		return model.WriteDocument(root, comments), nil
	}
	return out.Bytes(), err
}

// convertWith makes a model of the file by rules, and says what each rule took.
func (c *call) convertWith(source []byte, with string) (*incoming.Document, error) {
	rules, err := c.read(with)
	if err != nil {
		return nil, err
	}
	got, err := mapping.Read(with, rules, c.Arg(0), source)
	if err != nil {
		return nil, err
	}
	for _, r := range got.Rules {
		fmt.Fprintf(c.err, "%s (%s:%d): %s\n", r.Rule, with, r.Line, text.Plural(r.Items, "item"))
	}
	d := &incoming.Document{Format: "mapping", Root: got.Root}
	for _, l := range got.Left {
		names := l.Names
		if len(names) > 10 {
			names = append(slices.Clone(names[:10]), fmt.Sprintf("and %d more", len(l.Names)-10))
		}
		fmt.Fprintf(c.err, "no rule took %d of %d of %s: %s\n", len(l.Names), l.Total, l.Path, strings.Join(names, ", "))
	}
	return d, nil
}

// convertToText writes text files from the model by a template.
func (c *call) convertToText(source []byte, with, out string) (int, error) {
	if with == "" {
		return 0, fmt.Errorf("-with is missing: the template by which -to text writes")
	}
	template, err := c.read(with)
	if err != nil {
		return 0, err
	}
	doc, err := model.ReadDocument(c.Arg(0), source)
	if err != nil {
		return 0, err
	}
	t, err := c.topologyOf(doc)
	if err != nil {
		return 0, err
	}
	names, texts, err := templates.Write(with, template, doc, t)
	if err != nil {
		return 0, err
	}
	for _, name := range names {
		switch {
		case out == "" && name == "":
			fmt.Fprint(c.out, texts[name])
		case out == "":
			fmt.Fprintf(c.out, "--- %s\n%s", name, texts[name])
		default:
			file := filepath.Join(out, name)
			if err := c.files.MakeFolder(filepath.Dir(file)); err != nil {
				return 0, fmt.Errorf("-out: %w", err)
			}
			if err := c.files.Write(file, []byte(texts[name])); err != nil {
				return 0, fmt.Errorf("-out: %w", err)
			}
			fmt.Fprintf(c.err, "%s\n", file)
		}
	}
	return exitFine, nil
}

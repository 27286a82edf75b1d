package main

import (
	"bytes"
	"fmt"
	"strings"

	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/formats/asyncapi"
	"ironweir/formats/incoming"
	"ironweir/formats/inventory"
	"ironweir/formats/picture"
)

const (
	convertFrom = "model|asyncapi|csv|jsonl|otlp"
	convertTo   = "model|asyncapi|csv|jsonl|dot|mermaid"
)

var convertCommand = &command{
	name:  "convert",
	args:  "IN",
	short: "Turn a model into another open format, or such a file into a model",
	example: `ironweir convert demo/kittiwake.yaml -to asyncapi -out kittiwake.asyncapi.yaml
ironweir convert demo/import/harbour-lamps.asyncapi.yaml -to model > lamps.yaml
ironweir convert demo/kittiwake.yaml -to csv > inventory.csv
ironweir convert inventory.csv -to model`,
	run: func(c *call) (int, error) {
		from := c.String(
			"from",
			"",
			"what IN is: `FORMAT` model, asyncapi, csv, jsonl, otlp; without it, detected from its name and first lines",
		)
		to := c.String("to", "", "`FORMAT`: model, asyncapi, csv, jsonl, dot, mermaid")
		out := c.String("out", "", "write to `FILE` instead of standard output")
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
		in, err := incoming.Read(*from, c.Arg(0), source)
		if err != nil {
			return 0, err
		}
		var made []byte
		if in.Format == incoming.Model && *to == "model" {
			if made, err = model.Format(c.Arg(0), source); err != nil {
				return 0, err
			}
		} else if made, err = c.writeAs(*to, c.Arg(0), in.Root, in.Comments); err != nil {
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

// writeAs writes the document of a model, which must be one that can be used.
func (c *call) writeAs(format, file string, root *model.Value, comments map[string]string) ([]byte, error) {
	t, err := model.FromDocument(file, root, model.Options{Load: c.partsBeside(file)})
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

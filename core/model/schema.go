package model

import (
	"fmt"
	"strings"
)

// Schema gives the JSON Schema (2020-12) of the topology or scenario file.
func Schema(which string) (map[string]any, error) {
	switch which {
	case "topology":
		return topologySchema(), nil
	case "scenario":
		return scenarioSchema(), nil
	}
	return nil, fmt.Errorf("no schema %q; there is one of `topology` and one of `scenario`", which)
}

type schemaNode = map[string]any

func described(text string) schemaNode   { return schemaNode{"type": "string", "description": text} }
func mapOf(of any) schemaNode            { return schemaNode{"type": "object", "additionalProperties": of} }
func choice(values ...string) schemaNode { return schemaNode{"enum": values} }
func listOf(of any) schemaNode           { return schemaNode{"type": "array", "items": of} }
func oneOrMany() schemaNode {
	return schemaNode{"anyOf": []any{schemaNode{"type": "string"}, listOf(schemaNode{"type": "string"})}}
}
func closed(props schemaNode) schemaNode {
	return schemaNode{"type": "object", "properties": props, "additionalProperties": false}
}

const schemaDialect = "https://json-schema.org/draft/2020-12/schema"

var (
	durationSchema = schemaNode{
		"anyOf": []any{
			schemaNode{"type": "string", "description": "a duration: 250ms, 30s, 5m, 1h30m, 4d"},
			schemaNode{"type": "object"},
		},
	}
	rateSchema = schemaNode{
		"anyOf": []any{
			schemaNode{"type": "string", "description": "a rate: 20/s, 600/m, 5000/h, 2/d"},
			schemaNode{"type": "object"},
		},
	}
	shareSchema = schemaNode{
		"anyOf": []any{
			schemaNode{"type": "string"},
			schemaNode{"type": "number", "minimum": 0, "maximum": 1},
			schemaNode{"type": "object"},
		},
		"description": "a share: 0.5% or 0.005",
	}
	wholeSchema = schemaNode{
		"anyOf": []any{
			schemaNode{"type": "integer"},
			schemaNode{"type": "string", "pattern": `^\$`},
			schemaNode{"type": "object"},
		},
	}
	distributionSchema = schemaNode{
		"anyOf":       []any{schemaNode{"type": []string{"string", "number"}}, schemaNode{"type": "object"}},
		"description": "a duration, or {dist: exponential|uniform|lognormal|gamma|samples, …}",
	}
	anySchema  = schemaNode{}
	textSchema = schemaNode{"type": "string"}
	boolSchema = schemaNode{"type": "boolean"}
)

func breaksSchema() schemaNode {
	return closed(schemaNode{"every": distributionSchema, "for": distributionSchema})
}

func matchSchema() schemaNode {
	clause := closed(
		schemaNode{
			"prefix": oneOrMany(),
			"suffix": oneOrMany(),
			"type":   oneOrMany(),
			"source": oneOrMany(),
			"if":     textSchema,
		},
	)
	return schemaNode{"anyOf": []any{clause, listOf(clause)}}
}

// ownSchema gives the schema of a field that its form does not give; nil: it has none.
func ownSchema(name string) any {
	switch name {
	case "accepts":
		return schemaNode{"type": "object"}
	case "breaks":
		return breaksSchema()
	case "cases":
		return mapOf(closed(schemaNode{"if": textSchema, "takes": distributionSchema, "fails": anySchema}))
	case "cold-start":
		return closed(schemaNode{"takes": distributionSchema, "idle": durationSchema})
	case "dedupe":
		return closed(schemaNode{"by": textSchema, "within": durationSchema})
	case "do":
		return schemaNode{"type": "array"}
	case "if":
		return schemaNode{"type": []string{"string", "boolean"}}
	case "ignore":
		return matchSchema()
	case "memory":
		return described("a size: 256MB")
	case "retry":
		return within("retry")
	case "sunday":
		return schemaNode{"enum": []int{0, 1}}
	}
	return nil
}

// schema gives the schema of what is written in a field.
func (f *fieldSpec) schema() any {
	if own := ownSchema(f.path); own != nil {
		return own
	}
	switch f.form {
	case "distribution":
		return distributionSchema
	case "duration":
		return durationSchema
	case "expression", "node", "size", "text":
		return textSchema
	case "number":
		return schemaNode{"type": "number"}
	case "rate":
		return rateSchema
	case "share":
		return shareSchema
	case "truth":
		return boolSchema
	case "whole":
		return wholeSchema
	case "words":
		return oneOrMany()
	}
	if values := f.choices(); values != nil {
		return choice(values...)
	}
	return anySchema
}

// within gives the schema of a map that a field of links is, from the fields in it.
func within(head string) schemaNode {
	props := schemaNode{}
	for k := range linkFields {
		if name, in := strings.CutPrefix(linkFields[k].path, head+"."); in {
			f := linkFields[k]
			f.path = name
			props[name] = f.schema()
		}
	}
	return closed(props)
}

func linkSchema() schemaNode {
	props := schemaNode{}
	for k := range linkFields {
		f := &linkFields[k]
		switch head, _, nested := strings.Cut(f.path, "."); {
		case !nested:
			props[f.path] = f.schema()
		case head == "match":
			props[head] = matchSchema()
		default:
			props[head] = within(head)
		}
	}
	link := closed(props)
	link["type"] = []string{"object", "null"}
	return link
}

func nodeSchema(t *traits) schemaNode {
	props := schemaNode{
		"kind":  schemaNode{"const": string(t.kind)},
		"tags":  mapOf(textSchema),
		"links": mapOf(linkSchema()),
	}
	for k := range everyNode {
		props[everyNode[k].path] = everyNode[k].schema()
	}
	for _, name := range t.fields {
		props[name] = nodeField(name).schema()
	}
	n := closed(props)
	n["required"] = []string{"kind"}
	return n
}

func topologySchema() schemaNode {
	var cases []any
	for k := range kinds {
		t := &kinds[k]
		cases = append(cases, schemaNode{
			"if":   schemaNode{"properties": schemaNode{"kind": schemaNode{"const": string(t.kind)}}},
			"then": nodeSchema(t),
		})
	}
	s := closed(
		schemaNode{
			"ironweir":     schemaNode{"const": topologyHeader},
			"name":         textSchema,
			"about":        textSchema,
			"variables":    mapOf(anySchema),
			"environments": mapOf(mapOf(anySchema)),
			"defaults":     mapOf(schemaNode{"type": "object"}),
			"limits":       closed(schemaNode{"payload": textSchema}),
			"pools":        mapOf(wholeSchema),
			"permissions":  choice("open", "explicit"),
			"fails-together": mapOf(
				schemaNode{
					"anyOf": []any{oneOrMany(), closed(schemaNode{"nodes": oneOrMany(), "breaks": breaksSchema()})},
				},
			),
			"parts": mapOf(textSchema),
			"accepted": listOf(
				closed(
					schemaNode{
						"code":    textSchema,
						"node":    textSchema,
						"link":    textSchema,
						"because": textSchema,
						"until":   textSchema,
					},
				),
			),
			"nodes": mapOf(
				schemaNode{
					"type":       "object",
					"required":   []string{"kind"},
					"properties": schemaNode{"kind": choice(kindNames()...)},
					"allOf":      cases,
				},
			),
			"alarms": mapOf(
				closed(
					schemaNode{
						"watch":   choice(sortedKeys(Watches)...),
						"of":      textSchema,
						"above":   anySchema,
						"lasting": durationSchema,
					},
				),
			),
			"prices": closed(
				schemaNode{
					"currency": textSchema,
					"runs":     anySchema,
					"compute":  textSchema,
					"messages": anySchema,
					"storage":  textSchema,
				},
			),
		},
	)
	s["$schema"], s["title"], s["required"] = schemaDialect, "Iron Weir topology", []string{"ironweir", "nodes"}
	return s
}

func scenarioSchema() schemaNode {
	s := closed(
		schemaNode{
			"ironweir":     schemaNode{"const": scenarioHeader},
			"name":         textSchema,
			"about":        textSchema,
			"start":        textSchema,
			"length":       durationSchema,
			"warm-up":      durationSchema,
			"seed":         wholeSchema,
			"replications": wholeSchema,
			"breakdowns":   choice("none", "drawn"),
			"traffic": mapOf(
				closed(
					schemaNode{
						"into":     textSchema,
						"rate":     rateSchema,
						"arrivals": anySchema,
						"key":      textSchema,
						"type":     textSchema,
						"events": listOf(
							closed(
								schemaNode{
									"file":       textSchema,
									"data":       anySchema,
									"weight":     schemaNode{"type": "number"},
									"type":       textSchema,
									"source":     textSchema,
									"subject":    textSchema,
									"extensions": mapOf(anySchema),
								},
							),
						),
						"size": textSchema,
						"max":  wholeSchema,
					},
				),
			),
			"incidents": mapOf(
				closed(
					schemaNode{
						"at":    durationSchema,
						"for":   durationSchema,
						"node":  textSchema,
						"link":  textSchema,
						"group": textSchema,
						"fails": shareSchema,
						"slow": schemaNode{
							"type": "number",
						},
						"concurrency": wholeSchema,
						"paused":      boolSchema,
						"enabled":     boolSchema,
						"stopped":     boolSchema,
						"crash":       boolSchema,
						"reads":       boolSchema,
						"send-back":   closed(schemaNode{"from": textSchema, "to": textSchema, "rate": rateSchema}),
						"rewind":      closed(schemaNode{"link": textSchema, "by": durationSchema}),
					},
				),
			),
			"expect": mapOf(textSchema),
		},
	)
	s["$schema"], s["title"], s["required"] = schemaDialect, "Iron Weir scenario", []string{"ironweir"}
	return s
}

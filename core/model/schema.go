package model

import "fmt"

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

func retrySchema() schemaNode {
	return closed(
		schemaNode{
			"tries":    wholeSchema,
			"wait":     durationSchema,
			"factor":   schemaNode{"type": "number"},
			"max-wait": durationSchema,
			"jitter":   shareSchema,
			"give-up":  durationSchema,
			"except":   oneOrMany(),
		},
	)
}

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

// fieldSchemas gives the schema of each field that only some kinds have.
func fieldSchemas() schemaNode {
	return schemaNode{"notice": distributionSchema, "object-life": durationSchema, "duplicates": shareSchema,
		"order": choice(
			"any",
			"grouped",
		), "group": textSchema, "retention": durationSchema, "delay": durationSchema, "capacity": wholeSchema,
		"lease": durationSchema,
		"age": choice(
			"fresh",
			"carried",
		), "dedupe": closed(schemaNode{"by": textSchema, "within": durationSchema}), "ignore": matchSchema(),
		"partitions": anySchema, "by": textSchema, "partition-rate": rateSchema, "every": durationSchema,
		"cron": textSchema,
		"cron-fields": choice(
			"standard",
			"with-seconds",
			"with-year",
			"with-both",
		), "sunday": schemaNode{"enum": []int{0, 1}}, "zone": textSchema, "jitter": durationSchema,
		"from": textSchema, "until": textSchema, "enabled": boolSchema, "data": anySchema, "method": textSchema,
		"path": textSchema, "accepts": schemaNode{"type": "object"},
		"timeout": durationSchema, "rate-limit": rateSchema, "memory": described("a size: 256MB"), "cold-start": closed(schemaNode{"takes": distributionSchema, "idle": durationSchema}),
		"cases":       mapOf(closed(schemaNode{"if": textSchema, "takes": distributionSchema, "fails": anySchema})),
		"concurrency": wholeSchema, "pool": textSchema, "hop-limit": wholeSchema, "idempotent": textSchema,
		"sends": choice("one-by-one", "together"), "hook": textSchema,
		"retry": retrySchema(), "dead-letter": textSchema, "results": choice("async", "all"),
		"do": schemaNode{"type": "array"}}
}

func linkSchema() schemaNode {
	read := closed(
		schemaNode{
			"up-to":    wholeSchema,
			"within":   durationSchema,
			"parallel": wholeSchema,
			"from":     choice("oldest", "newest"),
			"failed":   choice("each", "all", "halve"),
			"settle":   choice("lease", "reject"),
			"prefetch": wholeSchema,
		},
	)
	link := closed(
		schemaNode{
			"to":          textSchema,
			"enabled":     boolSchema,
			"changes":     oneOrMany(),
			"match":       matchSchema(),
			"read":        read,
			"retry":       retrySchema(),
			"dead-letter": textSchema,
			"mode": choice(
				"wait",
				"async",
				"accept",
			),
			"on-error": choice("fail", "ignore"),
			"wrap":     choice("none", "event", "base64"),
			"when":     choice("success", "failure"),
			"at": choice(
				"end",
				"start",
			),
			"per":      choice("message", "run"),
			"count":    anySchema,
			"for-each": textSchema,
			"chance":   shareSchema,
			"if":       schemaNode{"type": []string{"string", "boolean"}},
			"key":      textSchema,
			"type":     textSchema,
			"data":     anySchema,
			"size":     textSchema,
			"op":       choice("write", "delete", "read", "insert", "update"),
		},
	)
	link["type"] = []string{"object", "null"}
	return link
}

func nodeSchema(k Kind) schemaNode {
	props := schemaNode{
		"kind":        schemaNode{"const": string(k)},
		"about":       textSchema,
		"owner":       textSchema,
		"tags":        mapOf(textSchema),
		"rate":        rateSchema,
		"callers":     oneOrMany(),
		"observed-as": oneOrMany(),
		"keys":        oneOrMany(),
		"types":       oneOrMany(),
		"sources":     oneOrMany(),
		"breaks":      breaksSchema(),
		"fails":       anySchema,
		"takes":       distributionSchema,
		"public":      boolSchema,
		"links":       mapOf(linkSchema()),
	}
	all := fieldSchemas()
	for _, f := range kindFields[k] {
		props[f] = all[f]
	}
	n := closed(props)
	n["required"] = []string{"kind"}
	return n
}

func topologySchema() schemaNode {
	var kinds []any
	for _, k := range Kinds {
		kinds = append(
			kinds,
			schemaNode{
				"if":   schemaNode{"properties": schemaNode{"kind": schemaNode{"const": string(k)}}},
				"then": nodeSchema(k),
			},
		)
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
					"allOf":      kinds,
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

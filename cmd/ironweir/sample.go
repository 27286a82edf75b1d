package main

import (
	"fmt"
	"runtime"

	"ironweir/core/document"
	"ironweir/core/model"
)

var sampleCommand = &command{
	name:  "sample",
	args:  "MODEL NODE",
	short: "Print an example event for a node, ready for follow -event",
	example: `ironweir sample demo/kittiwake.yaml manifest-drop > event.json
ironweir follow demo/kittiwake.yaml -node manifest-drop -event event.json`,
	run: func(c *call) (int, error) {
		m := c.modelFlags("json")
		if err := c.parse(2, 2); err != nil {
			return 0, err
		}
		l, err := c.loadModel(c.Arg(0), m)
		if err != nil {
			return 0, err
		}
		id := l.graph.NodeID(c.Arg(1))
		if id < 0 {
			return 0, l.graph.NoNode(c.Arg(1))
		}
		return exitFine, c.printJSON(l.graph.Sample(id))
	},
}

var schemaCommand = &command{
	name:    "schema",
	args:    "topology|scenario",
	short:   "Print the JSON Schema of the files, for editors",
	example: "ironweir schema topology > topology.schema.json",
	run: func(c *call) (int, error) {
		if err := c.parse(1, 1); err != nil {
			return 0, err
		}
		s, err := model.Schema(c.Arg(0))
		if err != nil {
			return 0, err
		}
		return exitFine, c.printJSON(s)
	},
}

// commit is the commit that the program was built from; the build sets it.
var commit = "unknown"

var versionCommand = &command{name: "version", args: "", short: "Print version, commit and Go version",
	run: func(c *call) (int, error) {
		format := c.String("format", "text", "`FORMAT`: text, json")
		if err := c.parse(0, 0); err != nil {
			return 0, err
		}
		if *format == "json" {
			return exitFine, c.printJSON(
				map[string]string{"version": document.Version, "commit": commit, "go": runtime.Version()},
			)
		}
		fmt.Fprintf(c.out, "ironweir %s, commit %s, %s\n", document.Version, commit, runtime.Version())
		return exitFine, nil
	}}

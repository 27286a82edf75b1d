// Package demo holds the demo data: the models and scenarios of Kittiwake
// Freight, an invented island ferry line.
package demo

import "embed"

// Files are the YAML files of the demo.
//
//go:embed *.yaml variants/*.yaml
var Files embed.FS

// Models names the demo's models, in the order in which they are shown.
var Models = []string{"kittiwake-draft", "kittiwake"}

// Scenarios names the demo's scenarios; each fits every model.
var Scenarios = []string{"friday-evening", "quiet-tuesday", "registry-down", "spring-clock-change"}

// Variants names the variants of the mended model.
var Variants = []string{"guesses", "more-clearing"}

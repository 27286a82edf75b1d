package main

import (
	"log/slog"

	"ironweir/service"
)

var openapiCommand = &command{
	name:    "openapi",
	args:    "",
	short:   "Print the description of the service's API (OpenAPI 3.1)",
	example: "ironweir openapi > openapi.json",
	run: func(c *call) (int, error) {
		if err := c.parse(0, 0); err != nil {
			return 0, err
		}
		return exitFine, c.printJSON(service.New(nil, nil, slog.New(slog.DiscardHandler), service.Options{}).OpenAPI())
	},
}

package service

import (
	"log/slog"
	"os"

	"github.com/gin-gonic/gin"

	"ironweir/service/admission"
	"ironweir/service/isolation"
)

// RunIsolated answers what the service sends to this process, which it has started: one
// computation after another, or all that one rehearsal is asked.
func RunIsolated(commands Commands) error {
	if !isolation.Lasts() {
		v := newIsolated(computing, slog.New(slog.DiscardHandler), Options{Commands: commands})
		return isolation.Run(v.engine)
	}
	v := newIsolated(rehearsing, slog.New(slog.NewTextHandler(os.Stderr, nil)), Options{})
	return isolation.RunUntil(v.rehearseOne(), v.engine)
}

// newIsolated makes the handler of a process of its own: it has no records, and answers only
// operations that need none.
func newIsolated(only string, log *slog.Logger, options Options) *Service {
	gin.SetMode(gin.ReleaseMode)
	v := &Service{
		only: only, engine: gin.New(), log: log, options: options, budget: admission.New(budgetOf(machineMemory())),
	}
	v.engine.Use(v.recover)
	if only == computing {
		v.procedures() // the service asks, with as much as it keeps
	}
	v.engine.Use(limitBody)
	v.describe()
	return v
}

package main

import (
	"fmt"
	"runtime"

	"ironweir/jobs"
	"ironweir/store/postgres"
)

// databaseFlag names the database of the commands that keep it.
func (c *call) databaseFlag() *string {
	return c.String("database", "", "the PostgreSQL at `URL`, postgres://…")
}

// needDatabase parses the flags and makes sure that a database is named.
func (c *call) needDatabase(database *string, least, most int) error {
	if err := c.parse(least, most); err != nil {
		return err
	}
	if err := c.fromEnvironment(); err != nil {
		return err
	}
	if *database == "" {
		return fmt.Errorf("-database is missing: the address of the database, postgres://… (or IRONWEIR_DATABASE)")
	}
	return nil
}

var workerCommand = &command{
	name:  "worker",
	args:  "",
	short: "Work on the runs of a service, beside it or on another machine",
	example: `ironweir worker -database postgres://weir@db.harbour.example/weir
ironweir worker -database postgres://weir@/weir?host=/run/postgresql -slots 8`,
	run: func(c *call) (int, error) {
		database := c.databaseFlag()
		slots := c.Int("slots", runtime.GOMAXPROCS(0), "parts of runs that are worked on at once, `N`")
		verbose := c.Bool("verbose", false, "log more")
		logFormat := c.String("log", "text", "log `FORMAT`: text, json")
		if err := c.needDatabase(database, 0, 0); err != nil {
			return 0, err
		}
		if *slots < 1 || *slots > 1000 {
			return 0, fmt.Errorf("-slots %d: from 1 to 1000", *slots)
		}
		s, stop, err := c.openStore(*database, "")
		if err != nil {
			return 0, err
		}
		defer stop()
		log := c.logger(*verbose, *logFormat)
		queue, err := jobs.NewQueue(s, log)
		if err != nil {
			return 0, err
		}
		fmt.Fprintf(
			c.out,
			"Working on runs, %s at once. Ctrl-C stops it; what it is at is handed back.\n",
			plural(*slots, "part"),
		)
		if err := jobs.NewWorker(queue, *slots, log).Run(c); err != nil {
			return 0, unreachable{err}
		}
		return exitFine, nil
	},
}

var migrateCommand = &command{name: "migrate", args: "", short: "Bring a database's schema up to date",
	example: "ironweir migrate -database postgres://weir@/weir?host=/run/postgresql",
	run: func(c *call) (int, error) {
		database := c.databaseFlag()
		if err := c.needDatabase(database, 0, 0); err != nil {
			return 0, err
		}
		_, stop, err := c.openStore(*database, "")
		if err != nil {
			return 0, err
		}
		stop()
		fmt.Fprintln(c.out, "The schema is up to date.")
		return exitFine, nil
	}}

var backupCommand = &command{
	name:    "backup",
	args:    "FILE",
	short:   "Write all records to a file, while the service goes on",
	example: "ironweir backup weir.dump -database postgres://weir@/weir?host=/run/postgresql",
	run: func(c *call) (int, error) {
		database := c.databaseFlag()
		if err := c.needDatabase(database, 1, 1); err != nil {
			return 0, err
		}
		size, err := postgres.Backup(c, *database, c.Arg(0))
		if err != nil {
			return 0, unreachable{err}
		}
		fmt.Fprintf(
			c.out,
			"%s holds all records (%d bytes). `ironweir restore` reads it into an empty database.\n",
			c.Arg(0),
			size,
		)
		return exitFine, nil
	},
}

var restoreCommand = &command{name: "restore", args: "FILE", short: "Read a backup into an empty database",
	example: "ironweir restore weir.dump -database postgres://weir@/weir?host=/run/postgresql",
	run: func(c *call) (int, error) {
		database := c.databaseFlag()
		if err := c.needDatabase(database, 1, 1); err != nil {
			return 0, err
		}
		if err := postgres.Restore(c, *database, c.Arg(0)); err != nil {
			return 0, unreachable{err}
		}
		_, stop, err := c.openStore(*database, "") // a backup of an older version is brought up to date
		if err != nil {
			return 0, err
		}
		stop()
		fmt.Fprintln(c.out, "All records are back, and the schema is up to date.")
		return exitFine, nil
	}}

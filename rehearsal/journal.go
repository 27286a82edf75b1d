package rehearsal

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"os"

	"ironweir/core/sim"
)

// journal keeps what was put into a rehearsal, in order, in a file without a
// name, so that memory does not grow with it and nothing is left behind.
type journal struct {
	file  *os.File
	size  int64 // bytes that count
	count int
}

func newJournal(folder string) (*journal, error) {
	file, err := os.CreateTemp(folder, "ironweir-rehearsal-*")
	if err != nil {
		return nil, fmt.Errorf("what is put into the rehearsal cannot be kept: %w", err)
	}
	if err := os.Remove(file.Name()); err != nil {
		file.Close()
		return nil, err
	}
	return &journal{file: file}, nil
}

func (j *journal) add(in *sim.Input) error {
	line, err := json.Marshal(in)
	if err != nil {
		return err
	}
	if _, err := j.file.WriteAt(append(line, '\n'), j.size); err != nil {
		return fmt.Errorf("the inputs could not be stored, so time can no longer be rewound: %w", err)
	}
	j.size += int64(len(line)) + 1
	j.count++
	return nil
}

// cut forgets what was put in from a place on.
func (j *journal) cut(place int64, count int) { j.size, j.count = place, count }

func (j *journal) close() { j.file.Close() }

// reading goes through a journal from its start.
type reading struct {
	of    *journal
	lines *bufio.Reader
	place int64 // of what is next
	count int   // that came before it
	ahead *sim.Input
	bytes int64
}

func (j *journal) read() *reading {
	return &reading{of: j, lines: bufio.NewReaderSize(io.NewSectionReader(j.file, 0, j.size), 1<<16)}
}

// peek gives the next input, or nil at the end.
func (r *reading) peek() (*sim.Input, error) {
	if r.ahead != nil || r.place >= r.of.size {
		return r.ahead, nil
	}
	line, err := r.lines.ReadBytes('\n')
	if err != nil {
		return nil, fmt.Errorf("what was put in cannot be read again: %w", err)
	}
	in := &sim.Input{}
	if err := json.Unmarshal(line, in); err != nil {
		return nil, fmt.Errorf("what was put in cannot be read again: %w", err)
	}
	r.ahead, r.bytes = in, int64(len(line))
	return in, nil
}

// pass goes behind what peek gave.
func (r *reading) pass() {
	r.place += r.bytes
	r.count++
	r.ahead, r.bytes = nil, 0
}

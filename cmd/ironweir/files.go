package main

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
)

// files is where a command finds its files and leaves what it makes: the disk,
// or, where the service does the work, what was sent along.
type files interface {
	// Read gives a file of at most so many bytes; - is standard input.
	Read(name string, most int64) ([]byte, error)
	// Write makes or replaces a file; one that is there keeps its permissions.
	Write(name string, data []byte) error
	// WriteNew makes a file that is not there yet.
	WriteNew(name string, data []byte) error
	// MakeFolder makes a folder that can be written to.
	MakeFolder(name string) error
}

// disk is the files of this machine.
type disk struct{ in io.Reader }

func (d disk) Read(name string, most int64) ([]byte, error) {
	if name == "-" {
		data, err := io.ReadAll(io.LimitReader(d.in, most+1))
		if int64(len(data)) > most {
			return nil, tooLarge(name, int64(len(data)), most)
		}
		return data, err
	}
	info, err := os.Stat(name)
	if err != nil {
		return nil, plainError(err)
	}
	if info.IsDir() {
		return nil, fmt.Errorf("%s is a folder; name a file in it", name)
	}
	if info.Size() > most {
		return nil, tooLarge(name, info.Size(), most)
	}
	return os.ReadFile(name)
}

func tooLarge(name string, size, most int64) error {
	if name == "-" {
		return fmt.Errorf("standard input has over %d bytes, and at most so many are read", most)
	}
	return fmt.Errorf("%s has %d bytes; at most %d are read", name, size, most)
}

func (disk) Write(name string, data []byte) error {
	return plainError(os.WriteFile(name, data, 0o644))
}

func (disk) WriteNew(name string, data []byte) error {
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return plainError(err)
	}
	if _, err := f.Write(data); err != nil {
		f.Close()
		return err
	}
	return f.Close()
}

func (disk) MakeFolder(name string) error {
	if err := os.MkdirAll(name, 0o755); err != nil {
		return plainError(err)
	}
	probe, err := os.CreateTemp(name, ".ironweir-*")
	if err != nil {
		return fmt.Errorf("the folder cannot be written: %w", plainError(err))
	}
	probe.Close()
	return os.Remove(probe.Name())
}

// plainError says what the system said about a file, without its call.
func plainError(err error) error {
	if p, ok := err.(*os.PathError); ok {
		return fmt.Errorf("%s: %w", p.Path, p.Err)
	}
	return err
}

// sent is the files that came with a command that the service runs; it never
// touches the service's own disk. What is asked for and was not sent is noted, so
// that it can be sent the next time.
type sent struct {
	given   map[string][]byte
	absent  map[string]string // those that the sender cannot read, with why
	wants   []string
	written map[string][]byte
}

func (s *sent) Read(name string, most int64) ([]byte, error) {
	data, ok := s.given[name]
	switch {
	case ok && int64(len(data)) > most:
		return nil, tooLarge(name, int64(len(data)), most)
	case ok:
		return data, nil
	case s.absent[name] != "":
		return nil, errors.New(s.absent[name])
	}
	if !slices.Contains(s.wants, name) {
		s.wants = append(s.wants, name)
	}
	return nil, fmt.Errorf("%s: %w", name, fs.ErrNotExist)
}

func (s *sent) Write(name string, data []byte) error {
	if s.written == nil {
		s.written = map[string][]byte{}
	}
	s.written[name] = data
	return nil
}

func (s *sent) WriteNew(name string, data []byte) error { return s.Write(name, data) }

func (s *sent) MakeFolder(name string) error { return nil }

// keep writes the files that the service made.
func keep(made map[string][]byte) error {
	for _, name := range slices.Sorted(maps.Keys(made)) {
		if dir := filepath.Dir(name); dir != "." {
			if err := (disk{}).MakeFolder(dir); err != nil {
				return err
			}
		}
		if err := (disk{}).Write(name, made[name]); err != nil {
			return err
		}
	}
	return nil
}

// isMissing reports whether a file is not there.
func isMissing(err error) bool { return errors.Is(err, fs.ErrNotExist) }

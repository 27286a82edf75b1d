package main

import (
	"io"
	"os"

	"golang.org/x/term"

	"ironweir/formats/text"
)

func isTerminal(w io.Writer) bool {
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// style is how text is printed: colour only on a terminal and never with
// NO_COLOR, as wide as the terminal up to 120 columns.
func (c *call) style() text.Style {
	if c.styled != nil {
		return *c.styled
	}
	s := text.Style{Width: 100}
	if isTerminal(c.out) {
		s.Colour = os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
		if w, _, err := term.GetSize(int(c.out.(*os.File).Fd())); err == nil && w >= 40 {
			s.Width = min(w, 120)
		}
	}
	return s
}

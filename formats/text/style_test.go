package text

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/document"
)

// Numbers have three digits at most that say something, and never more than is known.
func TestNumbers(t *testing.T) {
	for want, got := range map[string]string{
		"0": count(0), "999": count(999), "12,345": count(12_345), "-1,234,567": count(-1_234_567),
		"": blankCount(0), "1,000": blankCount(1_000),
		"0s": seconds(0), "1.50s": seconds(1.5), "250ms": seconds(0.25), "90.0s": seconds(90), "2h": seconds(7200),
		"12µs": seconds(12e-6), "2d3h": seconds(183_700),
		"unbounded": state(document.Unbounded), "never": state(document.Never), "90.5s": state(document.At(90.5)), "immediately": state(document.At(0)),
		"0%": share(0), "100.0%": share(1), "12.5%": share(0.125), "0.012%": share(0.000_12), "99.95%": share(0.9995),
		"under 0.0001%": share(1e-7), "99.9996%": share(0.999_996_9), "over 99.9999%": share(1 - 1e-7),
		"1 message": plural(1, "message"), "2,000 retries": plural(2_000, "retry"), "0 losses": plural(0, "loss"),
		"2 keys": plural(2, "key"), "0.125": number(0.125), "1,235": number(1234.5), "17": number(17),
	} {
		require.Equal(t, want, got)
	}
}

// A table leaves out columns that are empty, and spare ones where it is too wide; numbers stand on the right.
func TestTables(t *testing.T) {
	table := func(width int) []string {
		var b strings.Builder
		require.NoError(t, Table(&b, []string{"node", ">runs", "empty", "~note"}, [][]string{
			{"split", "1,200", "", "the longest of the notes"}, {"é", "7", "", "x"},
		}, Style{Width: width}))
		return strings.Split(strings.TrimRight(b.String(), "\n"), "\n")
	}
	require.Equal(t, []string{
		"  node    runs  note",
		"  split  1,200  the longest of the notes",
		"  é          7  x",
	}, table(80))
	require.Equal(t, []string{"  node    runs", "  split  1,200", "  é          7"}, table(30))
}

// Text is wrapped at words, within the width, behind its indent.
func TestWrapping(t *testing.T) {
	var b strings.Builder
	p := newPage(&b, Style{Width: 40})
	p.wrap("    ", strings.Repeat("word ", 12)+strings.Repeat("x", 60))
	require.NoError(t, p.Flush())
	lines := strings.Split(strings.TrimRight(b.String(), "\n"), "\n")
	require.Equal(t, "    word word word word word word word", lines[0])
	require.Equal(t, "    "+strings.Repeat("x", 60), lines[len(lines)-1], "a word is never cut")
	require.Len(t, lines, 3)
}

// Colour is only written where it is wanted.
func TestColour(t *testing.T) {
	require.Equal(t, "lost", Style{}.paint(red, "lost"))
	require.Equal(t, "\x1b[31mlost\x1b[0m", Style{Colour: true}.paint(red, "lost"))
	require.Empty(t, Style{Colour: true}.paint(red, ""))
}

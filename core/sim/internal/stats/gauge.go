// Package stats measures: counts weighted by time, exactly, and durations in histograms.
package stats

import "math/bits"

// TimeWeightedGauge is a count that changes in time: what it is, the most that it was, and, exactly,
// the area under it.
//
// The area up to an instant t is count·t less the instants at which it rose, plus those
// at which it fell, each counted from the start of the run: so a change adds one number,
// in 128 bits, since a million messages that wait for three hours are more than 64 hold.
type TimeWeightedGauge struct {
	Count, Most int64
	high, low   uint64 // instants at which it rose, less those at which it fell, in nanoseconds
}

// Rise counts one more from an instant on.
func (l *TimeWeightedGauge) Rise(t int64) {
	var carry uint64
	l.low, carry = bits.Add64(l.low, uint64(t), 0)
	l.high += carry
	l.Count++
	if l.Count > l.Most {
		l.Most = l.Count
	}
}

// Fall counts one less from an instant on.
func (l *TimeWeightedGauge) Fall(t int64) {
	var borrow uint64
	l.low, borrow = bits.Sub64(l.low, uint64(t), 0)
	l.high -= borrow
	l.Count--
}

// FallBy counts so many less from an instant on.
func (l *TimeWeightedGauge) FallBy(t, many int64) {
	high, low := bits.Mul64(uint64(t), uint64(many))
	var borrow uint64
	l.low, borrow = bits.Sub64(l.low, low, 0)
	l.high -= high + borrow
	l.Count -= many
}

// Area gives the area until an instant, in nanoseconds × count.
func (l *TimeWeightedGauge) Area(t int64) float64 {
	high, low := bits.Mul64(uint64(t), uint64(l.Count))
	low, borrow := bits.Sub64(low, l.low, 0)
	high -= l.high + borrow
	return float64(high)*0x1p64 + float64(low)
}

// Restart lets the area and the most count from an instant on.
func (l *TimeWeightedGauge) Restart(t int64) {
	l.high, l.low = bits.Mul64(uint64(t), uint64(l.Count))
	l.Most = l.Count
}

package sim

import "math/bits"

// timeWeightedGauge is a count that changes in time: what it is, the most that it was, and, exactly,
// the area under it.
//
// The area up to an instant t is count·t less the instants at which it rose, plus those
// at which it fell, each counted from the start of the run: so a change adds one number,
// in 128 bits, since a million messages that wait for three hours are more than 64 hold.
type timeWeightedGauge struct {
	count, most int64
	high, low   uint64 // instants at which it rose, less those at which it fell, in nanoseconds
}

// rise counts one more from an instant on.
func (l *timeWeightedGauge) rise(t int64) {
	var carry uint64
	l.low, carry = bits.Add64(l.low, uint64(t), 0)
	l.high += carry
	l.count++
	if l.count > l.most {
		l.most = l.count
	}
}

// fall counts one less from an instant on.
func (l *timeWeightedGauge) fall(t int64) {
	var borrow uint64
	l.low, borrow = bits.Sub64(l.low, uint64(t), 0)
	l.high -= borrow
	l.count--
}

// fallBy counts so many less from an instant on.
func (l *timeWeightedGauge) fallBy(t, many int64) {
	high, low := bits.Mul64(uint64(t), uint64(many))
	var borrow uint64
	l.low, borrow = bits.Sub64(l.low, low, 0)
	l.high -= high + borrow
	l.count -= many
}

// area gives the area until an instant, in nanoseconds × count.
func (l *timeWeightedGauge) area(t int64) float64 {
	high, low := bits.Mul64(uint64(t), uint64(l.count))
	low, borrow := bits.Sub64(low, l.low, 0)
	high -= l.high + borrow
	return float64(high)*0x1p64 + float64(low)
}

// restart lets the area and the most count from an instant on.
func (l *timeWeightedGauge) restart(t int64) {
	l.high, l.low = bits.Mul64(uint64(t), uint64(l.count))
	l.most = l.count
}

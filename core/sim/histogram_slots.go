package sim

import (
	"math"
	"slices"
	"unsafe"
)

// histogramSlot counts times during a run, in the buckets of a Histogram. Every bucket that
// there can be has its slot from the start, so that to count takes no decision; what
// is not used takes no memory, where the system lets address space be reserved.
type histogramSlot struct {
	sum   float64 // nanoseconds
	max   int64
	slots *[timeSlots]int64 // a bucket is at its number; the first one also from belowFloor on
}

const (
	timeSlots = 1 << 12
	firstRaw  = (1023+histLow)<<histBits - 1 // less this, a time's first bits are its bucket
	// where 1 nanosecond is counted, above the bucket of all that can be; 0 is behind it
	belowFloor = timeSlots + 1023<<histBits - firstRaw
)

// add counts one time, in nanoseconds, which is not negative.
func (t *histogramSlot) add(ns int64) {
	f := float64(ns)
	slot := (math.Float64bits(f)>>(52-histBits) - firstRaw) % timeSlots
	// as t.slots[slot]++, which would look first whether they are there
	*(*int64)(unsafe.Add(unsafe.Pointer(t.slots), slot*8))++
	t.sum += f
	if ns > t.max {
		t.max = ns
	}
}

// histogram gives what has been counted: good until more is, or the run is closed.
func (t *histogramSlot) histogram() Histogram {
	for b, n := range t.slots[belowFloor:] {
		if n > 0 {
			t.slots[0] += n
			t.slots[belowFloor+b] = 0
		}
	}
	return Histogram{t.sum, t.max, t.slots[:bucketOf(float64(t.max))+1]}
}

// kept gives a copy of that, to keep.
func (t *histogramSlot) kept() Histogram {
	h := t.histogram()
	h.Counts = slices.Clone(h.Counts)
	return h
}

const (
	// Between two something is left free, so that the same times of several do not all have
	// their places in the same few lines of the processor's cache.
	timesStride = (timeSlots + 5*64) * 8
	timesRegion = 64 * timesStride
)

// newTimes gives times of which none has been counted yet.
func (s *space) newTimes() histogramSlot {
	if len(s.forTimes) == 0 {
		if s.forTimes = s.take(timesRegion); s.forTimes == nil {
			return histogramSlot{slots: new([timeSlots]int64)}
		}
	}
	slots := (*[timeSlots]int64)(unsafe.Pointer(unsafe.SliceData(s.forTimes)))
	s.forTimes = s.forTimes[timesStride:]
	return histogramSlot{slots: slots}
}

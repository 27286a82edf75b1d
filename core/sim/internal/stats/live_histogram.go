package stats

import (
	"math"
	"slices"
	"unsafe"

	"ironweir/core/sim/internal/arena"
)

// LiveHistogram counts times during a run, in the buckets of a Histogram. Every bucket that
// there can be has its slot from the start, so that to count takes no decision; what
// is not used takes no memory, where the system lets address space be reserved.
type LiveHistogram struct {
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

// Add counts one time, in nanoseconds, which is not negative.
func (t *LiveHistogram) Add(ns int64) {
	f := float64(ns)
	slot := (math.Float64bits(f)>>(52-histBits) - firstRaw) % timeSlots
	// as t.slots[slot]++, which would look first whether they are there
	*(*int64)(unsafe.Add(unsafe.Pointer(t.slots), slot*8))++
	t.sum += f
	if ns > t.max {
		t.max = ns
	}
}

// Snapshot gives what has been counted: good until more is, or the run is closed.
func (t *LiveHistogram) Snapshot() Histogram {
	for b, n := range t.slots[belowFloor:] {
		if n > 0 {
			t.slots[0] += n
			t.slots[belowFloor+b] = 0
		}
	}
	return Histogram{t.sum, t.max, t.slots[:bucketOf(float64(t.max))+1]}
}

// Clone gives a copy of that, to keep.
func (t *LiveHistogram) Clone() Histogram {
	h := t.Snapshot()
	h.Counts = slices.Clone(h.Counts)
	return h
}

const (
	// Between two something is left free, so that the same times of several do not all have
	// their places in the same few lines of the processor's cache.
	timesStride = (timeSlots + 5*64) * 8
	timesRegion = 64 * timesStride
)

// Histograms makes live histograms in the address space of a run.
type Histograms struct {
	space *arena.Space
	left  []byte // of the last region
}

// NewHistograms makes live histograms in a space.
func NewHistograms(s *arena.Space) Histograms { return Histograms{space: s} }

// New gives a histogram that has counted nothing.
func (c *Histograms) New() LiveHistogram {
	if len(c.left) == 0 {
		if c.left = c.space.Take(timesRegion); c.left == nil {
			return LiveHistogram{slots: new([timeSlots]int64)}
		}
	}
	slots := (*[timeSlots]int64)(unsafe.Pointer(unsafe.SliceData(c.left)))
	c.left = c.left[timesStride:]
	return LiveHistogram{slots: slots}
}

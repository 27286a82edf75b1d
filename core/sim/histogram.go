package sim

import "math"

// Histogram counts times in logarithmic buckets, 64 an octave: a percentile is
// within 0.8% of the truth, or within a microsecond. Histograms merge exactly.
type Histogram struct {
	Sum    float64 // nanoseconds: whole numbers add up exactly
	Max    int64   // nanoseconds
	Counts []int64 // by bucket
}

const (
	histBits  = 6       // 2^6 buckets an octave
	histFloor = 1 << 10 // nanoseconds; below: one bucket
	histLow   = 10      // log2 of the floor
)

// bucketOf takes the bucket from the exponent of a float and the first bits of
// its mantissa; 0: below the floor.
func bucketOf(ns float64) int {
	const below = (1023+histLow)<<histBits - 1
	b := int(math.Float64bits(ns)>>(52-histBits)) - below
	return b &^ (b >> 63) // without a branch: many times are 0
}

// bucketMiddle gives the middle of a bucket, in nanoseconds.
func bucketMiddle(b int) float64 {
	if b == 0 {
		return 0
	}
	b--
	octave, sub := b>>histBits+histLow, b&(1<<histBits-1)
	width := math.Ldexp(1, octave-histBits)
	return math.Ldexp(1, octave) + (float64(sub)+0.5)*width
}

// Add counts one time, which is not negative.
func (h *Histogram) Add(ns int64) {
	f := float64(ns)
	if b, counts := uint(bucketOf(f)), h.Counts; b < uint(len(counts)) {
		counts[b]++
	} else {
		h.grow(int(b))
		h.Counts[b]++
	}
	h.Sum += f
	if ns > h.Max {
		h.Max = ns
	}
}

func (h *Histogram) grow(b int) {
	bigger := make([]int64, b+1+4<<histBits)
	copy(bigger, h.Counts)
	h.Counts = bigger
}

// Merge adds the counts of o.
func (h *Histogram) Merge(o *Histogram) {
	if len(o.Counts) > len(h.Counts) {
		h.grow(len(o.Counts) - 1)
	}
	for i, n := range o.Counts {
		h.Counts[i] += n
	}
	h.Sum += o.Sum
	h.Max = max(h.Max, o.Max)
}

// Count gives how many times were counted.
func (h *Histogram) Count() int64 {
	count := int64(0)
	for _, n := range h.Counts {
		count += n
	}
	return count
}

// Mean gives the mean in seconds; 0 when empty.
func (h *Histogram) Mean() float64 {
	count := h.Count()
	if count == 0 {
		return 0
	}
	return h.Sum / float64(count) / 1e9
}

// Quantile gives the time in seconds below which a share q of the counts lies.
func (h *Histogram) Quantile(q float64) float64 {
	count := h.Count()
	if count == 0 {
		return 0
	}
	want, seen := int64(math.Ceil(q*float64(count))), int64(0)
	for b, n := range h.Counts {
		if seen += n; seen >= want && n > 0 {
			return min(bucketMiddle(b), float64(h.Max)) / 1e9
		}
	}
	return float64(h.Max) / 1e9
}

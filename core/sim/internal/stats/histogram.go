package stats

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
	return max(int(math.Float64bits(ns)>>(52-histBits))-firstRaw, 0)
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

// Merge adds the counts of o.
func (h *Histogram) Merge(o *Histogram) {
	if more := len(o.Counts) - len(h.Counts); more > 0 {
		h.Counts = append(h.Counts, make([]int64, more)...)
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

package arena

import (
	"runtime"
	"testing"

	"github.com/stretchr/testify/require"
)

// item is a record of 32 bytes, as a journey is.
type item struct {
	value int64
	_     [24]byte
}

// TestRecordsAreFoundAgain, whether they lie in reserved address space or in a slice
// that grows.
func TestRecordsAreFoundAgain(t *testing.T) {
	var s Space
	defer s.Free()
	reserved := New[item](&s)
	grown := in[item](nil)
	for name, r := range map[string]*Records[item]{"reserved": &reserved, "grown": &grown} {
		for range 5000 {
			i := r.Add()
			r.At(i).value = int64(i)
		}
		require.EqualValues(t, 5001, r.Count, name)
		for i := range r.Count {
			require.EqualValues(t, i, r.At(i).value, name)
		}
		require.GreaterOrEqual(t, r.Bytes(), int64(5001*32), name)
	}
	if runtime.GOOS == "linux" {
		require.Len(t, s.regions, 1)
		require.Less(t, reserved.Bytes(), int64(5100*32))
	}
}

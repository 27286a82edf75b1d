package sim

import "unsafe"

// records holds records of one kind, without pointers, by index. Index 0 stands for
// none. Where the system lets it, they lie in address space that is reserved for as
// many as there can be, of which only what is used takes memory: so they grow without
// being copied. Elsewhere they grow as a slice does; a pointer to a record is good
// only until the next is added.
type records[T any] struct {
	base     unsafe.Pointer // the first
	count    uint32
	room     uint32 // for so many
	reserved bool
}

func newRecords[T any](s *space) records[T] {
	var one T
	return recordsIn[T](s.take((maxIndex + 1) * int(unsafe.Sizeof(one))))
}

// recordsIn makes records that lie in a region, or without one in a slice.
func recordsIn[T any](region []byte) records[T] {
	if region == nil {
		r := records[T]{count: 1}
		r.grow()
		return r
	}
	return records[T]{base: unsafe.Pointer(unsafe.SliceData(region)), count: 1, room: maxIndex + 1, reserved: true}
}

// at gives a record, of an index that add has given (which is not checked), or that of
// index 0: what is written there says nothing.
func (r *records[T]) at(i uint32) *T {
	var one T
	return (*T)(unsafe.Add(r.base, uintptr(i)*unsafe.Sizeof(one)))
}

// add makes room for one more record, and gives its index.
func (r *records[T]) add() uint32 {
	i := r.count
	if i == r.room {
		r.grow()
	}
	r.count++
	return i
}

func (r *records[T]) grow() {
	bigger := make([]T, max(1024, r.room+r.room/2))
	if r.room > 0 {
		copy(bigger, unsafe.Slice((*T)(r.base), r.room))
	}
	r.base, r.room = unsafe.Pointer(unsafe.SliceData(bigger)), uint32(len(bigger))
}

// bytes is what the records take.
func (r *records[T]) bytes() int64 {
	var one T
	if !r.reserved {
		return int64(r.room) * int64(unsafe.Sizeof(one))
	}
	return int64(r.count) * int64(unsafe.Sizeof(one))
}

// space is the address space that a run has reserved.
type space struct {
	regions  [][]byte
	forTimes []byte // what is left of the last region of times
}

// take reserves so many bytes; nil: there is none to be had.
func (s *space) take(size int) []byte {
	region := reserve(size)
	if region != nil {
		s.regions = append(s.regions, region)
	}
	return region
}

// free gives back all that was reserved; what lies there is gone.
func (s *space) free() {
	for _, region := range s.regions {
		release(region)
	}
	s.regions, s.forTimes = nil, nil
}

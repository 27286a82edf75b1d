package sim

import "unsafe"

// records holds records of one kind, without pointers, by index. Index 0 stands for
// none. Where the system lets it, they lie in address space that is reserved for as
// many as there can be, of which only what is used takes memory: so they grow without
// being copied. Elsewhere they grow as a slice does; a pointer to a record is good
// only until the next is added.
type records[T any] struct {
	base   unsafe.Pointer // the first
	count  uint32
	room   uint32 // for so many
	region []byte // reserved; nil: they lie in a slice
}

func newRecords[T any]() records[T] {
	var one T
	return recordsIn[T](reserve((maxIndex + 1) * int(unsafe.Sizeof(one))))
}

// recordsIn makes records that lie in a region, or without one in a slice.
func recordsIn[T any](region []byte) records[T] {
	r := records[T]{count: 1, region: region}
	if region == nil {
		r.grow()
	} else {
		r.base, r.room = unsafe.Pointer(unsafe.SliceData(region)), maxIndex+1
	}
	return r
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
	if r.region == nil {
		return int64(r.room) * int64(unsafe.Sizeof(one))
	}
	return int64(r.count) * int64(unsafe.Sizeof(one))
}

// free gives back what was reserved; nothing can be asked for any more.
func (r *records[T]) free() {
	release(r.region)
	r.base, r.room, r.region = nil, 0, nil
}

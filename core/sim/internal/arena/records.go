// Package arena holds records without pointers by index, in address space that is
// reserved for as many as there can be, or, where that is not to be had, in slices.
package arena

import "unsafe"

const (
	IndexBits = 24               // an index takes so many
	MaxIndex  = 1<<IndexBits - 1 // the greatest
)

// Records holds records of one kind, without pointers, by index. Index 0 stands for
// none. Where the system lets it, they lie in address space that is reserved for as
// many as there can be, of which only what is used takes memory: so they grow without
// being copied. Elsewhere they grow as a slice does; a pointer to a record is good
// only until the next is added.
type Records[T any] struct {
	base     unsafe.Pointer // the first
	Count    uint32
	room     uint32 // for so many
	reserved bool
}

// New makes records in address space of a run.
func New[T any](s *Space) Records[T] {
	var one T
	return in[T](s.Take((MaxIndex + 1) * int(unsafe.Sizeof(one))))
}

// in makes records that lie in a region, or without one in a slice.
func in[T any](region []byte) Records[T] {
	if region == nil {
		r := Records[T]{Count: 1}
		r.grow()
		return r
	}
	return Records[T]{base: unsafe.Pointer(unsafe.SliceData(region)), Count: 1, room: MaxIndex + 1, reserved: true}
}

// At gives a record, of an index that add has given (which is not checked), or that of
// index 0: what is written there says nothing.
func (r *Records[T]) At(i uint32) *T {
	var one T
	return (*T)(unsafe.Add(r.base, uintptr(i)*unsafe.Sizeof(one)))
}

// Add makes room for one more record, and gives its index.
func (r *Records[T]) Add() uint32 {
	i := r.Count
	if i == r.room {
		r.grow()
	}
	r.Count++
	return i
}

func (r *Records[T]) grow() {
	bigger := make([]T, max(1024, r.room+r.room/2))
	if r.room > 0 {
		copy(bigger, unsafe.Slice((*T)(r.base), r.room))
	}
	r.base, r.room = unsafe.Pointer(unsafe.SliceData(bigger)), uint32(len(bigger))
}

// Bytes is what the records take.
func (r *Records[T]) Bytes() int64 {
	var one T
	if !r.reserved {
		return int64(r.room) * int64(unsafe.Sizeof(one))
	}
	return int64(r.Count) * int64(unsafe.Sizeof(one))
}

// Space is the address space that a run has reserved.
type Space struct {
	regions [][]byte
}

// Take reserves so many bytes; nil: there is none to be had.
func (s *Space) Take(size int) []byte {
	region := reserve(size)
	if region != nil {
		s.regions = append(s.regions, region)
	}
	return region
}

// Free gives back all that was reserved; what lies there is gone.
func (s *Space) Free() {
	for _, region := range s.regions {
		release(region)
	}
	s.regions = nil
}

package sim

import "unsafe"

// records holds records of one kind, without pointers, by index. Index 0 stands for
// none. Where the system lets it, they lie in address space that is reserved for as
// many as there can be, of which only what is used takes memory: so they grow without
// being copied. Elsewhere they grow as a slice does; a pointer to a record is good
// only until the next is added.
type records[T any] struct {
	all    []T // as many as there is room for
	count  uint32
	region []byte // reserved; nil: all is a slice like others
}

func newRecords[T any]() records[T] {
	var one T
	r := records[T]{count: 1, region: reserve((maxIndex + 1) * int(unsafe.Sizeof(one)))}
	if r.region == nil {
		r.all = make([]T, 1024)
	} else {
		r.all = unsafe.Slice((*T)(unsafe.Pointer(unsafe.SliceData(r.region))), maxIndex+1)
	}
	return r
}

// at gives a record.
func (r *records[T]) at(i uint32) *T { return &r.all[i] }

// add makes room for one more record, and gives its index.
func (r *records[T]) add() uint32 {
	i := r.count
	if int(i) == len(r.all) {
		r.grow()
	}
	r.count++
	return i
}

func (r *records[T]) grow() {
	bigger := make([]T, len(r.all)+len(r.all)/2)
	copy(bigger, r.all)
	r.all = bigger
}

// bytes is what the records take.
func (r *records[T]) bytes() int64 {
	var one T
	if r.region == nil {
		return int64(len(r.all)) * int64(unsafe.Sizeof(one))
	}
	return int64(r.count) * int64(unsafe.Sizeof(one))
}

// free gives back what was reserved; nothing can be asked for any more.
func (r *records[T]) free() {
	release(r.region)
	r.all, r.region = nil, nil
}

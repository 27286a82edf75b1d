package sim

import (
	"fmt"
	"hash/fnv"

	"ironweir/core/sim/internal/random"

	"ironweir/core/model"
)

// stream is what a stream or a table's change feed is beside its readers: its
// partitions, to which records go by key. Each link that reads it is a feed,
// which holds copies of its own.
type stream struct {
	partitions int
	auto       bool
	rate       float64
	buckets    []*tokenBucket // by partition, where a rate limits them
	turn       int
	feeds      []int32 // nodes, by place among the links that leave
}

// maxPartitions bounds what `partitions: auto` grows to.
const maxPartitions = 4096

func (e *engine) setUpStream(n *node) error {
	gn := &e.g.Nodes[n.id]
	s := &stream{partitions: max(gn.Partitions, 1), auto: gn.Partitions == 0, rate: gn.PartitionRate}
	for range s.partitions {
		s.buckets = append(s.buckets, newTokenBucket(s.rate))
	}
	n.stream = s
	if len(gn.Out) == 0 {
		n.queue = &queue{retention: int64(gn.Retention)}
		return nil
	}
	for _, id := range gn.Out {
		s.feeds = append(s.feeds, e.feedOf[id])
		e.setUpFeed(n, &e.nodes[e.feedOf[id]], id)
	}
	return nil
}

// partitionOf reports to which partition a record goes: by its key, else in turn.
func (e *engine) partitionOf(n *node, m *message) int {
	s := n.stream
	gn := &e.g.Nodes[n.id]
	if s.partitions == 1 {
		return 0
	}
	switch {
	case gn.Kind == model.Table:
		return hashOf(e.contents[m.content].key(), s.partitions)
	case gn.By != nil:
		if v, err := gn.By.Value(e.eventOfMessage(m, "message")); err == nil {
			return hashOf(fmt.Sprint(v), s.partitions)
		}
	}
	return s.turn % s.partitions
}

// hashOf spreads keys over n places by FNV-1a, mixed so that the low bits are
// as good as the high ones.
func hashOf(key string, n int) int {
	h := fnv.New64a()
	h.Write([]byte(key))
	return int(random.Splitmix(h.Sum64()) % uint64(n))
}

// full reports whether a record's partition has no room for it within its rate;
// a stream that grows by itself gets another partition instead.
func (e *engine) full(n *node, m *message) bool {
	s := n.stream
	if s.rate == 0 {
		return false
	}
	for {
		at := e.partitionOf(n, m)
		if s.buckets[at].ready(e.Now)-float64(e.planned[place{n.id, at}]) >= 1 {
			return false
		}
		if !s.auto || s.partitions >= maxPartitions {
			return true
		}
		s.partitions++
		s.buckets = append(s.buckets, newTokenBucket(s.rate))
		for _, id := range s.feeds {
			e.addPartition(&e.nodes[id])
		}
		s.turn = s.partitions - 1 // the new one is next in turn
	}
}

// choosePartition notes where a record that stands goes.
func (e *engine) choosePartition(n *node, i uint32) {
	s := n.stream
	m := e.messageOf(e.copies.At(i))
	p := e.partitionOf(n, &m)
	s.turn = p + 1
	s.buckets[p].take(e.Now)
	e.inFlightFor(e.copies.At(i)).group = int32(p)
}

func (e *engine) standInStream(n *node, i uint32) {
	if e.storage {
		gn := &e.g.Nodes[n.id]
		kept := min(int64(gn.Retention), e.end-e.Now)
		n.byteSeconds += float64(e.contents[e.copies.At(i).content].size) * float64(kept) * 1e-9
	}
	e.choosePartition(n, i)
	if len(n.stream.feeds) > 0 {
		e.ScheduleNow(evFan, i)
		return
	}
	e.countDepth(n, e.copies.At(i))
	e.insertByAge(n, i)
	e.rest(i)
}

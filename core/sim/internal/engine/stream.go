package engine

import (
	"fmt"
	"hash/fnv"

	"ironweir/core/model"
	"ironweir/core/sim/internal/random"
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

func (e *Engine) setUpStream(n *Node) error {
	gn := &e.Graph.Nodes[n.ID]
	s := &stream{partitions: max(gn.Partitions, 1), auto: gn.Partitions == 0, rate: gn.PartitionRate}
	for range s.partitions {
		s.buckets = append(s.buckets, newTokenBucket(s.rate))
	}
	n.stream = s
	if len(gn.Out) == 0 {
		n.Queue = &queue{retention: int64(gn.Retention)}
		return nil
	}
	for _, id := range gn.Out {
		s.feeds = append(s.feeds, e.FeedOf[id])
		e.setUpFeed(n, &e.Nodes[e.FeedOf[id]], id)
	}
	return nil
}

// partitionOf reports to which partition a record goes: by its key, else in turn.
func (e *Engine) partitionOf(n *Node, m *Message) int {
	s := n.stream
	gn := &e.Graph.Nodes[n.ID]
	if s.partitions == 1 {
		return 0
	}
	switch {
	case gn.Kind == model.Table:
		return hashOf(e.Contents[m.Content].key(), s.partitions)
	case gn.By != nil:
		if v, err := gn.By.Value(e.EventOfMessage(m, "message")); err == nil {
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
func (e *Engine) full(n *Node, m *Message) bool {
	s := n.stream
	if s.rate == 0 {
		return false
	}
	for {
		at := e.partitionOf(n, m)
		if s.buckets[at].ready(e.Now)-float64(e.planned[place{n.ID, at}]) >= 1 {
			return false
		}
		if !s.auto || s.partitions >= maxPartitions {
			return true
		}
		s.partitions++
		s.buckets = append(s.buckets, newTokenBucket(s.rate))
		for _, id := range s.feeds {
			e.addPartition(&e.Nodes[id])
		}
		s.turn = s.partitions - 1 // the new one is next in turn
	}
}

// choosePartition notes where a record that stands goes.
func (e *Engine) choosePartition(n *Node, i uint32) {
	s := n.stream
	m := e.MessageOf(e.Copies.At(i))
	p := e.partitionOf(n, &m)
	s.turn = p + 1
	s.buckets[p].take(e.Now)
	e.inFlightFor(e.Copies.At(i)).group = int32(p)
}

func (e *Engine) standInStream(n *Node, i uint32) {
	if e.Storage {
		gn := &e.Graph.Nodes[n.ID]
		kept := min(int64(gn.Retention), e.End-e.Now)
		n.ByteSeconds += float64(e.Contents[e.Copies.At(i).Content].Size) * float64(kept) * 1e-9
	}
	e.choosePartition(n, i)
	if len(n.stream.feeds) > 0 {
		e.ScheduleNow(EvFan, i)
		return
	}
	e.countDepth(n, e.Copies.At(i))
	e.insertByAge(n, i)
	e.rest(i)
}

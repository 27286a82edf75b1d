package engine

// OldestIn gives the age of the oldest message that waits in a queue, or for a
// reader of a stream.
func (e *Engine) OldestIn(n *Node) int64 {
	if n.stream != nil {
		oldest := int64(0)
		for _, id := range n.stream.feeds {
			oldest = max(oldest, e.OldestIn(&e.Nodes[id]))
		}
		return oldest
	}
	if n.Queue == nil || n.Queue.Ages.Head == 0 || len(n.Queue.Links) == 0 {
		return 0
	}
	return e.Now - e.Copies.At(n.Queue.Ages.Head).Born
}

// LostAt counts what was lost at a node, and by the readers of a stream.
func (e *Engine) LostAt(n *Node) int64 {
	sum := n.Lost()
	if n.stream != nil {
		for _, id := range n.stream.feeds {
			sum += e.Nodes[id].Lost()
		}
	}
	return sum
}

func (n *Node) Lost() int64 {
	sum := int64(0)
	for f := Expired; f < FateCount; f++ {
		sum += n.Fates[f]
	}
	return sum
}

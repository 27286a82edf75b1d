package sim

import (
	"bytes"
	"compress/gzip"
	"encoding/gob"
	"fmt"
)

// Encode gives a result as bytes, so that another process can merge it.
func (r *Result) Encode() ([]byte, error) {
	var out bytes.Buffer
	packed := gzip.NewWriter(&out)
	if err := gob.NewEncoder(packed).Encode(r); err != nil {
		return nil, err
	}
	if err := packed.Close(); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// DecodeResult reads what Encode gave. Merged results come out the same, whether
// they were encoded in between or not.
func DecodeResult(data []byte) (*Result, error) {
	packed, err := gzip.NewReader(bytes.NewReader(data))
	if err != nil {
		return nil, fmt.Errorf("a part's result: %w", err)
	}
	r := &Result{}
	if err := gob.NewDecoder(packed).Decode(r); err != nil {
		return nil, fmt.Errorf("a part's result: %w", err)
	}
	return r, nil
}

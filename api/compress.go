package api

import (
	"bytes"
	"compress/gzip"
	"sync"
)

// shrink returns the gzip form of a file, made when it is first asked for; nil
// where it would save nothing, as with fonts.
func shrink(content []byte) func() []byte {
	return sync.OnceValue(func() []byte {
		var out bytes.Buffer
		w, err := gzip.NewWriterLevel(&out, gzip.BestCompression)
		if err != nil {
			return nil
		}
		w.Write(content) // into memory, cannot fail
		w.Close()
		if out.Len() > len(content)*9/10 {
			return nil
		}
		return out.Bytes()
	})
}

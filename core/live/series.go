package live

import (
	"encoding/binary"
	"errors"
	"io"
	"time"
)

// File is one that packets are written to.
type File interface {
	io.Writer
	Truncate(size int64) error
	Close() error
}

// Series writes a capture to files that follow each other, each of which can be read by itself.
type Series struct {
	Create func() (File, error) // the next file
	Each   int64                // how many bytes one may have; 0: no bound
	Every  time.Duration        // how long one is written to; 0: no bound
	Now    func() time.Time
	Failed func(error) // is called once, where nothing can be written any more; nil: nobody

	file   File
	header []byte // what each file begins with: the descriptions of the interfaces
	size   int64
	begun  time.Time
	Files  int // that were begun
	err    error
}

// Write writes some whole blocks of a capture. A file never ends within a block, not where the
// disk is full either. Errors stick.
func (s *Series) Write(blocks []byte) (int, error) {
	n := len(blocks)
	if s.err != nil {
		return 0, s.err
	}
	if s.file == nil {
		s.err = s.Begin()
	}
	for len(blocks) > 0 && s.err == nil {
		size, describes := blockAt(blocks)
		if describes {
			s.header = append(s.header, blocks[:size]...)
			s.err = s.put(blocks[:size])
			blocks = blocks[size:]
			continue
		}
		if s.isFull(size) {
			if s.err = s.next(); s.err != nil {
				break
			}
		}
		for size < len(blocks) { // as many as fit
			more, describes := blockAt(blocks[size:])
			if describes || s.Each > 0 && s.size+int64(size+more) > s.Each {
				break
			}
			size += more
		}
		s.err = s.put(blocks[:size])
		blocks = blocks[size:]
	}
	if s.err != nil {
		if s.Failed != nil {
			s.Failed(s.err)
		}
		return 0, s.err
	}
	return n, nil
}

// isFull reports whether the next so many bytes belong into another file.
func (s *Series) isFull(size int) bool {
	if s.size <= int64(len(s.header)) {
		return false // a file holds one packet at least
	}
	return s.Each > 0 && s.size+int64(size) > s.Each || s.Every > 0 && s.Now().Sub(s.begun) >= s.Every
}

// Begin begins the first file, before anything is written.
func (s *Series) Begin() (err error) {
	s.file, err = s.Create()
	if err == nil {
		s.size, s.begun = 0, s.Now()
		s.Files++
	}
	return err
}

func (s *Series) next() error {
	err := s.file.Close()
	s.file = nil
	if err == nil {
		err = s.Begin()
	}
	if err == nil {
		err = s.put(s.header)
	}
	return err
}

// put writes some blocks; those that could be written in part only are taken back.
func (s *Series) put(blocks []byte) error {
	n, err := s.file.Write(blocks)
	if err == nil {
		s.size += int64(n)
		return nil
	}
	for len(blocks) > 0 {
		size, _ := blockAt(blocks)
		if size > n {
			break
		}
		s.size, n, blocks = s.size+int64(size), n-size, blocks[size:]
	}
	return errors.Join(err, s.file.Truncate(s.size))
}

// blockAt is how many bytes the block has with which a text begins, and whether it is one that
// describes. All have the form of those that this program writes.
func blockAt(blocks []byte) (size int, describes bool) {
	kind := binary.LittleEndian.Uint32(blocks)
	return int(binary.LittleEndian.Uint32(blocks[4:])), kind == sectionBlock || kind == interfaceBlock
}

// The kinds of blocks that a file begins with.
const (
	sectionBlock   = 0x0a0d0d0a
	interfaceBlock = 1
)

// Keep writes all that is heard, until that ends. It goes on to take what is heard when it
// cannot write any more; the error says why.
func (s *Series) Keep(heard <-chan []byte) error {
	for blocks := range heard {
		s.Write(blocks)
	}
	return s.Close()
}

// Err is why nothing is written any more; nil while it is.
func (s *Series) Err() error { return s.err }

// Close ends the last file. The error is that of writing.
func (s *Series) Close() error {
	if s.file == nil {
		return s.err
	}
	err := s.file.Close()
	s.file = nil
	if s.err == nil {
		s.err = err
	}
	return s.err
}

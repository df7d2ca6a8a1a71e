package live

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/capture"
)

// script is a tap that hears what it is told to.
type script struct {
	met   []Interface
	rests [][]string // what comes with each call: "NAME payload"
	lost  uint64
	end   error
}

func (s *script) Interfaces() []Interface { return s.met }

func (s *script) Receive(wait time.Duration, take func(*Packet)) error {
	if len(s.rests) == 0 {
		time.Sleep(wait)
		return s.end
	}
	time.Sleep(time.Millisecond) // in which who keeps up does
	for _, text := range s.rests[0] {
		name, payload, _ := strings.Cut(text, " ")
		at := -1
		for i := range s.met {
			if s.met[i].Name == name {
				at = i
			}
		}
		if at < 0 {
			s.met, at = append(s.met, Interface{name, capture.Ethernet}), len(s.met)
		}
		frame := capture.AppendFrame(nil, client, server, []byte(payload))
		take(&Packet{Record: capture.Record{At: time.Now().UnixNano(), Link: capture.Ethernet, Length: len(frame), Data: frame}, Interface: at, Way: capture.Outbound})
	}
	s.rests = s.rests[1:]
	return nil
}

func (s *script) Lost() (uint64, error) { return s.lost, nil }
func (s *script) Close() error          { return nil }

// payloads are what a capture holds, with what it says of losses.
func payloads(t *testing.T, file io.Reader) (got []string, lost uint64) {
	r, err := capture.NewReader(file)
	require.NoError(t, err)
	for record, err := range r.Records() {
		require.NoError(t, err)
		got = append(got, string(record.Data[14+20+8:]))
	}
	return got, r.Lost()
}

// What is heard comes to those who judge and to those who write as a capture each, with
// interfaces that are met on the way and with the losses; an error of the tap ends it.
func TestListening(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		broken := errors.New("the interface is gone")
		tap := &script{met: []Interface{{"near", capture.Ethernet}}, rests: [][]string{{"near one"}, {"near two", "later three"}}, lost: 7, end: broken}
		l, err := Listen(tap, time.Now, true)
		require.NoError(t, err)
		var kept bytes.Buffer
		done := make(chan error)
		go func() { done <- l.Run(t.Context()) }()
		judged := make(chan []string)
		go func() {
			got, lost := payloads(t, l.Judged())
			assert.EqualValues(t, 7, lost)
			judged <- got
		}()
		for batch := range l.Kept() {
			kept.Write(batch)
		}
		assert.Equal(t, []string{"one", "two", "three"}, <-judged)
		assert.Equal(t, broken, <-done)
		got, lost := payloads(t, &kept)
		assert.Equal(t, []string{"one", "two", "three"}, got)
		assert.EqualValues(t, 7, lost)
		heard, lost, unjudged, unkept := l.Heard()
		assert.Equal(t, []uint64{3, 7, 0, 0}, []uint64{heard, lost, unjudged, unkept})
	})
}

// Who cannot keep up loses packets, and is told how many; nobody else does.
func TestSlowFollowers(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		tap := &script{}
		for i := range 3 * maxWaiting {
			tap.rests = append(tap.rests, []string{fmt.Sprintf("new%d %s", i%2, strings.Repeat("packet", 700))})
		}
		l, err := Listen(tap, time.Now, true)
		require.NoError(t, err)
		ctx, stop := context.WithCancel(t.Context())
		go l.Run(ctx)
		var judged []string
		var lost uint64
		ended := make(chan bool)
		go func() { judged, lost = payloads(t, l.Judged()); close(ended) }()
		time.Sleep(time.Second) // in which nothing is written
		stop()
		synctest.Wait()
		var kept bytes.Buffer
		for batch := range l.Kept() {
			kept.Write(batch)
		}
		<-ended
		_, _, unjudged, unkept := l.Heard()
		assert.Len(t, judged, 3*maxWaiting)
		assert.Zero(t, lost+unjudged)
		written, _ := payloads(t, &kept)
		assert.NotZero(t, unkept)
		assert.Len(t, written, 3*maxWaiting-int(unkept), "what is left out is counted, and the rest can be read")
	})
}

// Many small batches are little: who is slow for a moment misses none of them.
func TestSmallBatchesWait(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		tap := &script{}
		for range 5 * maxWaiting {
			tap.rests = append(tap.rests, []string{"one packet"})
		}
		l, err := Listen(tap, time.Now, true)
		require.NoError(t, err)
		ctx, stop := context.WithCancel(t.Context())
		go l.Run(ctx)
		time.Sleep(time.Second) // in which nothing is read
		var judged []string
		ended := make(chan bool)
		go func() { judged, _ = payloads(t, l.Judged()); close(ended) }()
		var kept bytes.Buffer
		followed := make(chan bool)
		go func() {
			for batch := range l.Kept() {
				kept.Write(batch)
			}
			close(followed)
		}()
		time.Sleep(time.Second)
		stop()
		<-ended
		<-followed
		_, _, unjudged, unkept := l.Heard()
		assert.Zero(t, unjudged+unkept)
		assert.Len(t, judged, 5*maxWaiting)
		written, _ := payloads(t, &kept)
		assert.Len(t, written, 5*maxWaiting)
	})
}

// file is one of a series; it takes so many bytes.
type file struct {
	bytes.Buffer
	room int
}

func (f *file) Write(b []byte) (int, error) {
	if f.room > 0 && f.Len()+len(b) > f.room {
		n, _ := f.Buffer.Write(b[:f.room-f.Len()])
		return n, errors.New("no space left")
	}
	return f.Buffer.Write(b)
}

func (f *file) Truncate(size int64) error { f.Buffer.Truncate(int(size)); return nil }
func (f *file) Close() error              { return nil }

// Each file of a series can be read by itself, is no larger than it may be, and ends with a whole
// packet where the disk is full.
func TestSeries(t *testing.T) {
	for _, c := range []struct {
		what        string
		each        int64
		every       time.Duration
		room, files int
		full        bool
	}{{"one file", 0, 0, 0, 1, false}, {"by size", 700, 0, 0, 4, false}, {"by time", 0, 10 * time.Second, 0, 5, false}, {"a full disk", 0, 0, 1000, 1, true}} {
		t.Run(c.what, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				var files []*file
				var told error
				s := &Series{Each: c.each, Every: c.every, Now: time.Now, Failed: func(err error) { told = err }, Create: func() (File, error) {
					files = append(files, &file{room: c.room})
					return files[len(files)-1], nil
				}}
				var batch bytes.Buffer
				w, err := capture.NewSection(&batch)
				require.NoError(t, err)
				near, _ := w.Interface(capture.Ethernet, "near")
				var want []string
				for i := range 20 {
					want = append(want, fmt.Sprintf("payload %02d", i))
					frame := capture.AppendFrame(nil, client, server, []byte(want[i]))
					w.Passed(near, &capture.Record{At: 1, Data: frame}, capture.Inbound)
					if i == 9 {
						w.Interface(capture.RawIP, "later")
					}
					if i%2 == 1 {
						s.Write(bytes.Clone(batch.Bytes()))
						batch.Reset()
						time.Sleep(5 * time.Second)
					}
				}
				err = s.Close()
				assert.Equal(t, c.full, err != nil)
				assert.Equal(t, err, told)
				assert.Len(t, files, c.files)
				var got []string
				for _, f := range files {
					if c.each > 0 {
						assert.LessOrEqual(t, int64(f.Len()), c.each)
					}
					part, _ := payloads(t, bytes.NewReader(f.Bytes()))
					got = append(got, part...)
				}
				assert.Equal(t, want[:len(got)], got)
				assert.Equal(t, c.full, len(got) < len(want))
				assert.NotEmpty(t, got)
			})
		})
	}
}

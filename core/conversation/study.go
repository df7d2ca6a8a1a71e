package conversation

import (
	"context"
	"errors"
	"io"
	"time"

	"unquil/core/capture"
)

// Source is captures that can be opened more than once.
type Source interface {
	// Open opens them at their beginning. The error says which could not be opened.
	Open() ([]*capture.Reader, error)
	// Again reports whether they can be opened once more, and have an end.
	Again() bool
}

// ErrNoPacket says that captures have no packet with the number that was asked for.
var ErrNoPacket = errors.New("the capture has no packet with this number")

// Plan says what a study of captures is to find out. The zero value is an overview.
type Plan struct {
	Options // Each and Late are the study's own
	// Packet is the number of a packet that is to be seen whole, with the exchanges that it
	// is a part of; 0: none.
	Packet int
	// Only is the number of the one exchange that is gathered, told and selected; 0: all are.
	Only int
	// Settled says that what is gathered, told and selected has to come with all that is found
	// about it: where later packets tell of earlier ones, the captures are read again.
	Settled bool
	// Gather is called before each reading, and returns what is called with every exchange that
	// counts: what an earlier reading gathered is void then. nil: nobody.
	Gather func() func(*Transaction)
	// Tell is called once with every exchange that counts; nil: nobody.
	Tell func(*Transaction)
	// Select says of which exchanges the packets are wanted.
	Select Selecting
	// Notes are words about exchanges, by number, for the comments of selected packets.
	Notes map[int]string
	// Fetch returns which exchanges are wanted whole though the overview did not keep them; nil,
	// or returning nil: none.
	Fetch func(*Overview) func(*Transaction) bool
	// Packets returns the numbers of packets that are to be seen whole; nil: none.
	Packets func(*Overview) []int
}

// Selecting is how many exchanges a selection of packets takes.
type Selecting uint8

// How many it takes: none, all, or as many as the capture beside a report holds.
const (
	SelectNone Selecting = iota
	SelectAll
	SelectForReport
)

// Study is what captures came to.
type Study struct {
	*Overview
	Selection PacketSelection
	Packets   map[int]*WholePacket // by number
	Met       bool                 // an exchange came that was to be gathered, told or selected

	source             Source
	plan               Plan
	ordinary, remarked int // that were selected for a report
}

// NewStudy reads captures as often as the plan takes, and no more. Where they cannot be
// opened the study is nil. Any other error is that of a file, and the study holds what came
// before it; when ctx ends it holds what was read by then.
func NewStudy(ctx context.Context, source Source, plan Plan) (*Study, error) {
	s := &Study{source: source, plan: plan}
	if plan.Packet > 0 {
		if err := s.find(plan.Packet); err != nil {
			return nil, err
		}
	}
	again := plan.Settled && source.Again()
	err := s.read(ctx, !again)
	if s.Overview == nil {
		return nil, err
	}
	if again && ctx.Err() == nil {
		if s.plan.Late = s.Late(); s.plan.Late != nil || plan.Tell != nil {
			if err = s.read(ctx, true); s.Overview == nil {
				return nil, err
			}
		}
	}
	if plan.Fetch != nil && s.NotKept > 0 && ctx.Err() == nil {
		if wanted := plan.Fetch(s.Overview); wanted != nil {
			err = errors.Join(err, s.fetch(ctx, wanted))
		}
	}
	if plan.Packets != nil {
		err = errors.Join(err, s.see(plan.Packets(s.Overview)))
	}
	return s, err
}

// find looks for the packet that the exchanges to show are known by.
func (s *Study) find(packet int) error {
	if err := s.see([]int{packet}); err != nil {
		return err
	}
	whole := s.Packets[packet]
	if whole == nil {
		return ErrNoPacket
	}
	s.plan.Also = whole.PartOf
	return nil
}

// read makes one reading. last says that its exchanges are told.
func (s *Study) read(ctx context.Context, last bool) error {
	s.Selection, s.ordinary, s.remarked, s.Met = PacketSelection{}, 0, 0, false
	options := s.plan.Options
	var gather, tell func(*Transaction)
	if s.plan.Gather != nil {
		gather = s.plan.Gather()
	}
	if last {
		tell = s.plan.Tell
	}
	if gather != nil || tell != nil || s.plan.Select != SelectNone {
		options.Each = func(t *Transaction) { s.each(t, gather, tell) }
	}
	readers, err := s.source.Open()
	if err != nil {
		s.Overview = nil
		return err
	}
	s.Overview, err = Read(ctx, readers, options)
	return err
}

func (s *Study) each(t *Transaction, gather, tell func(*Transaction)) {
	if s.plan.Only != 0 && t.Number != s.plan.Only {
		return
	}
	s.Met = true
	if s.selects(t) {
		s.Selection.Add(t)
		s.Selection.note(t, s.plan.Notes[t.Number])
	}
	if gather != nil {
		gather(t)
	}
	if tell != nil {
		tell(t)
	}
}

// selects reports whether the packets of an exchange are wanted. A report takes as many that
// are remarkable, and as many others, as it has room for.
func (s *Study) selects(t *Transaction) bool {
	switch s.plan.Select {
	case SelectAll:
		return true
	case SelectForReport:
		of := &s.ordinary
		if len(t.Codes) > 0 {
			of = &s.remarked
		}
		*of++
		return *of <= maxForReport
	}
	return false
}

// maxForReport is how many remarkable exchanges, and how many others, the capture beside a
// report holds.
const maxForReport = 20_000

// fetch reads the captures once more for exchanges that were only counted.
func (s *Study) fetch(ctx context.Context, wanted func(*Transaction) bool) error {
	readers, err := s.source.Open()
	if err != nil {
		return err
	}
	return s.Fetch(ctx, readers, wanted)
}

// see reads the captures once more for whole packets.
func (s *Study) see(packets []int) error {
	readers, err := s.source.Open()
	if err != nil {
		return err
	}
	s.Packets, err = WholePackets(packets, readers, s.plan.Ports)
	return err
}

// WriteSelection writes the packets of the selected exchanges as a capture, and returns how
// many they are. The error is that of a file, or of w.
func (s *Study) WriteSelection(w io.Writer) (int, error) { return s.Selection.Write(w, s.source.Open) }

// Begins is when the first packet of captures was taken; the zero Time when they have none.
// The error is that of a file.
func Begins(source Source) (time.Time, error) {
	readers, err := source.Open()
	if err != nil {
		return time.Time{}, err
	}
	for record, err := range capture.Merge(readers) {
		if err != nil {
			return time.Time{}, err
		}
		return record.Time(), nil
	}
	return time.Time{}, nil
}

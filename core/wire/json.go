package wire

import (
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
)

// ErrJSON says that a JSON value is not a message as RFC 8427 lays it out.
var ErrJSON = errors.New("not a DNS message in JSON (RFC 8427)")

// messageJSON is a message as RFC 8427 §2.1 lays it out, in the order of the
// header. Z and EDNS are not in the RFC: the first keeps the one bit that has no
// member, the second says in words what the OPT record holds and is not read back.
type messageJSON struct {
	ID            uint16
	QR            bool
	Opcode        uint8
	AA            bool
	TC            bool
	RD            bool
	RA            bool
	Z             bool `json:"Z,omitempty"`
	AD            bool
	CD            bool
	RCODE         uint16
	QDCOUNT       int
	ANCOUNT       int
	NSCOUNT       int
	ARCOUNT       int
	QNAME         *string        `json:"QNAME,omitempty"` // read when there are no questionRRs
	QTYPE         *uint16        `json:"QTYPE,omitempty"`
	QTYPEname     string         `json:"QTYPEname,omitempty"`
	QCLASS        *uint16        `json:"QCLASS,omitempty"`
	QuestionRRs   []questionJSON `json:"questionRRs,omitempty"`
	AnswerRRs     []Record       `json:"answerRRs,omitempty"`
	AuthorityRRs  []Record       `json:"authorityRRs,omitempty"`
	AdditionalRRs []Record       `json:"additionalRRs,omitempty"`
	EDNS          *ednsJSON      `json:"EDNS,omitempty"`
	Octets        string         `json:"messageOctetsHEX,omitempty"` // read when it is all there is
}

type questionJSON struct {
	NAME      string
	TYPE      *uint16 `json:"TYPE,omitempty"`
	TYPEname  string  `json:"TYPEname,omitempty"`
	CLASS     *uint16 `json:"CLASS,omitempty"`
	CLASSname string  `json:"CLASSname,omitempty"`
}

type ednsJSON struct {
	Size    uint16       `json:"udp_payload_size"`
	Version uint8        `json:"version"`
	DO      bool         `json:"dnssec_ok"`
	RCODE   string       `json:"rcode"`
	Options []optionJSON `json:"options,omitempty"`
}

type optionJSON struct {
	Code uint16 `json:"code"`
	Name string `json:"name"`
	Hex  string `json:"hex"`
	Text string `json:"text,omitempty"`
}

// MarshalJSON writes the message as RFC 8427 says. It has no error.
func (m Message) MarshalJSON() ([]byte, error) {
	f := m.Flags
	j := messageJSON{
		ID: m.ID, QR: f.Has(QR), Opcode: uint8(f.Opcode()), AA: f.Has(AA), TC: f.Has(TC), RD: f.Has(RD),
		RA: f.Has(RA), Z: f.Has(Z), AD: f.Has(AD), CD: f.Has(CD), RCODE: uint16(f.RCode()),
		QDCOUNT: len(m.Questions), ANCOUNT: len(m.Answer), NSCOUNT: len(m.Authority), ARCOUNT: len(m.Additional),
		AnswerRRs: m.Answer, AuthorityRRs: m.Authority, AdditionalRRs: m.Additional,
	}
	for _, q := range m.Questions {
		j.QuestionRRs = append(j.QuestionRRs, questionJSON{q.Name.String(), new(uint16(q.Type)), q.Type.String(), new(uint16(q.Class)), q.Class.String()})
	}
	if e, ok := m.EDNS(); ok {
		j.EDNS = &ednsJSON{Size: e.Size, Version: e.Version, DO: e.DO, RCODE: m.RCode().String()}
		for _, o := range e.Options {
			j.EDNS.Options = append(j.EDNS.Options, optionJSON{o.Code, o.Name(), hexText(o.Data), o.Text()})
		}
	}
	return json.Marshal(j)
}

// UnmarshalJSON reads a message as RFC 8427 says. The counts are taken from what
// is there. The error wraps ErrJSON.
func (m *Message) UnmarshalJSON(data []byte) error {
	var j messageJSON
	if err := json.Unmarshal(data, &j); err != nil {
		return fmt.Errorf("%w: %w", ErrJSON, err)
	}
	if j.Octets != "" {
		octets, err := hex.DecodeString(j.Octets)
		if err == nil {
			*m, err = ReadMessage(octets)
		}
		if err != nil {
			return fmt.Errorf("%w: messageOctetsHEX: %w", ErrJSON, err)
		}
		return nil
	}
	if j.Opcode > 15 || j.RCODE > 15 {
		return fmt.Errorf("%w: Opcode and RCODE take four bits each", ErrJSON)
	}
	*m = Message{ID: j.ID, Answer: j.AnswerRRs, Authority: j.AuthorityRRs, Additional: j.AdditionalRRs}
	for _, section := range []*[]Record{&m.Answer, &m.Authority, &m.Additional} {
		if len(*section) == 0 {
			*section = nil // an empty list and none are one message
		}
	}
	for bit, set := range map[Flags]bool{QR: j.QR, AA: j.AA, TC: j.TC, RD: j.RD, RA: j.RA, Z: j.Z, AD: j.AD, CD: j.CD} {
		if set {
			m.Flags |= bit
		}
	}
	m.Flags = m.Flags.WithOpcode(Opcode(j.Opcode)).WithRCode(RCode(j.RCODE))
	if len(j.QuestionRRs) == 0 && j.QNAME != nil {
		j.QuestionRRs = []questionJSON{{*j.QNAME, j.QTYPE, j.QTYPEname, j.QCLASS, ""}}
	}
	for _, q := range j.QuestionRRs {
		name, t, c, err := q.head()
		if err != nil {
			return fmt.Errorf("%w: question: %w", ErrJSON, err)
		}
		m.Questions = append(m.Questions, Question{name, t, c})
	}
	return nil
}

// head reads the members that questions and records share; a class that is not
// given is IN.
func (q questionJSON) head() (name Name, t Type, c Class, err error) {
	if name, err = ParseName(q.NAME); err != nil {
		return name, 0, 0, fmt.Errorf("NAME: %w", err)
	}
	switch {
	case q.TYPE != nil:
		t = Type(*q.TYPE)
	default:
		if t, err = ParseType(q.TYPEname); err != nil {
			return name, 0, 0, fmt.Errorf("TYPE: %w", err)
		}
	}
	switch {
	case q.CLASS != nil:
		c = Class(*q.CLASS)
	case q.CLASSname == "":
		c = IN
	default:
		c, err = ParseClass(q.CLASSname)
	}
	return name, t, c, err
}

// recordJSON is a record as RFC 8427 §2.2 lays it out; the member with the
// RDATA's text is named after the type (§2.3) and put in beside.
type recordJSON struct {
	questionJSON
	TTL      uint32
	RDLENGTH int
	RDATAHEX *string `json:"RDATAHEX,omitempty"`
}

// MarshalJSON writes the record as RFC 8427 §2.2 says. It has no error.
func (r Record) MarshalJSON() ([]byte, error) {
	j := recordJSON{
		questionJSON{r.Name.String(), new(uint16(r.Type)), r.Type.String(), new(uint16(r.Class)), r.Class.String()},
		r.TTL, len(r.Data), new(hexText(r.Data)),
	}
	data, err := json.Marshal(j)
	if value := r.Value(); err == nil && !strings.HasPrefix(value, `\#`) {
		text, _ := json.Marshal(value)
		data = fmt.Appendf(data[:len(data)-1], `,"rdata%s":%s}`, r.Type, text)
	}
	return data, err
}

// UnmarshalJSON reads a record as RFC 8427 §2.2 says: its RDATA from RDATAHEX,
// or else from the member named after its type.
func (r *Record) UnmarshalJSON(data []byte) error {
	var j recordJSON
	err := json.Unmarshal(data, &j)
	if err != nil {
		return err
	}
	*r = Record{TTL: j.TTL}
	if r.Name, r.Type, r.Class, err = j.head(); err != nil {
		return err
	}
	if j.RDATAHEX != nil {
		rdata, err := hex.DecodeString(*j.RDATAHEX)
		if err != nil || len(rdata) > 65535 {
			return fmt.Errorf("RDATAHEX: %w", ErrValue)
		}
		r.Data = string(rdata)
		if row := rowOf(r.Type, r.Class); row != nil && !(r.Data == "" && (r.Class == ANYC || r.Class == NONE)) {
			if field, _, bad := row.check(r.Data); bad != nil {
				return fmt.Errorf("RDATAHEX: %s: %w", field, bad)
			}
		}
		return nil
	}
	var members map[string]json.RawMessage
	var text string
	if err := json.Unmarshal(data, &members); err != nil {
		return err
	}
	member := "rdata" + r.Type.String()
	if err := json.Unmarshal(members[member], &text); err != nil {
		return fmt.Errorf("neither RDATAHEX nor %s: %w", member, ErrMissing)
	}
	r.Data, err = ParseRecordData(r.Type, r.Class, text)
	return err
}

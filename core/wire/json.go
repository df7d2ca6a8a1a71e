package wire

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
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
func (m Message) MarshalJSON() ([]byte, error) { return m.AppendJSON(nil), nil }

// AppendJSON appends the message as RFC 8427 says.
func (m *Message) AppendJSON(dst []byte) []byte {
	f := m.Flags
	dst = appendMember(dst, `{"ID":`, int(m.ID))
	dst = appendBit(dst, `,"QR":`, f.Has(QR))
	dst = appendMember(dst, `,"Opcode":`, int(f.Opcode()))
	dst = appendBit(dst, `,"AA":`, f.Has(AA))
	dst = appendBit(dst, `,"TC":`, f.Has(TC))
	dst = appendBit(dst, `,"RD":`, f.Has(RD))
	dst = appendBit(dst, `,"RA":`, f.Has(RA))
	if f.Has(Z) {
		dst = append(dst, `,"Z":true`...)
	}
	dst = appendBit(dst, `,"AD":`, f.Has(AD))
	dst = appendBit(dst, `,"CD":`, f.Has(CD))
	dst = appendMember(dst, `,"RCODE":`, int(f.RCode()))
	dst = appendMember(dst, `,"QDCOUNT":`, len(m.Questions))
	dst = appendMember(dst, `,"ANCOUNT":`, len(m.Answer))
	dst = appendMember(dst, `,"NSCOUNT":`, len(m.Authority))
	dst = appendMember(dst, `,"ARCOUNT":`, len(m.Additional))
	for i := range m.Questions {
		q := &m.Questions[i]
		dst = append(dst, between(i, `,"questionRRs":[`)...)
		dst = append(appendHead(dst, q.Name, q.Type, q.Class), '}')
	}
	if len(m.Questions) > 0 {
		dst = append(dst, ']')
	}
	dst = appendRecords(dst, `,"answerRRs":[`, m.Answer)
	dst = appendRecords(dst, `,"authorityRRs":[`, m.Authority)
	dst = appendRecords(dst, `,"additionalRRs":[`, m.Additional)
	if e, ok := m.EDNS(); ok {
		dst = m.appendEDNS(dst, &e)
	}
	return append(dst, '}')
}

// appendEDNS appends what the OPT record says, in words.
func (m *Message) appendEDNS(dst []byte, e *EDNS) []byte {
	dst = appendMember(dst, `,"EDNS":{"udp_payload_size":`, int(e.Size))
	dst = appendMember(dst, `,"version":`, int(e.Version))
	dst = appendBit(dst, `,"dnssec_ok":`, e.DO)
	dst = appendJSONText(append(dst, `,"rcode":`...), m.RCode().String())
	for i, o := range e.Options {
		dst = append(dst, between(i, `,"options":[`)...)
		dst = appendMember(dst, `{"code":`, int(o.Code))
		dst = appendJSONText(append(dst, `,"name":`...), o.Name())
		dst = append(appendHex(append(dst, `,"hex":"`...), o.Data), '"')
		if text := o.Text(); text != "" {
			dst = appendJSONText(append(dst, `,"text":`...), text)
		}
		dst = append(dst, '}')
	}
	if len(e.Options) > 0 {
		dst = append(dst, ']')
	}
	return append(dst, '}')
}

// between is what stands before member i of a list that begins with open.
func between(i int, open string) string {
	if i > 0 {
		return ","
	}
	return open
}

func appendRecords(dst []byte, open string, all []Record) []byte {
	from, to := 0, 0 // where the head of the record before stands, which most of a section share
	for i := range all {
		dst = append(dst, between(i, open)...)
		r, start := &all[i], len(dst)
		if i > 0 && r.Type == all[i-1].Type && r.Class == all[i-1].Class && r.Name == all[i-1].Name {
			dst = append(dst, dst[from:to]...)
		} else {
			dst = appendHead(dst, r.Name, r.Type, r.Class)
		}
		from, to = start, len(dst)
		dst = r.appendRest(dst)
	}
	if len(all) > 0 {
		dst = append(dst, ']')
	}
	return dst
}

func appendMember(dst []byte, key string, n int) []byte {
	return strconv.AppendInt(append(dst, key...), int64(n), 10)
}

func appendBit(dst []byte, key string, set bool) []byte {
	dst = append(dst, key...)
	if set {
		return append(dst, "true"...)
	}
	return append(dst, "false"...)
}

// appendHead appends the members that questions and records share, without the end.
func appendHead(dst []byte, name Name, t Type, c Class) []byte {
	dst = name.AppendJSON(append(dst, `{"NAME":`...))
	dst = appendMember(dst, `,"TYPE":`, int(t))
	dst = append(append(dst, `,"TYPEname":"`...), t.String()...) // which has nothing to escape
	dst = appendMember(dst, `","CLASS":`, int(c))
	return append(append(append(dst, `,"CLASSname":"`...), c.String()...), '"')
}

// AppendJSON appends the name in text form with the final dot, as a JSON string.
func (n Name) AppendJSON(dst []byte) []byte {
	dst = append(dst, '"')
	start := len(dst)
	return append(escapeText(appendName(dst, n.wire), start), '"')
}

// appendJSONText appends ASCII that shows as a JSON string.
func appendJSONText(dst []byte, text string) []byte {
	dst = append(dst, '"')
	start := len(dst)
	return append(escapeText(append(dst, text...), start), '"')
}

// escapeText puts a backslash before each one and each quote in what stands in dst from start on, which is
// ASCII that shows otherwise.
func escapeText(dst []byte, start int) []byte {
	more := bytes.Count(dst[start:], []byte{'\\'}) + bytes.Count(dst[start:], []byte{'"'})
	if more == 0 {
		return dst
	}
	from := len(dst) - 1
	dst = append(dst, make([]byte, more)...)
	for to := len(dst) - 1; to > from; from-- {
		dst[to] = dst[from]
		to--
		if c := dst[from]; c == '\\' || c == '"' {
			dst[to] = '\\'
			to--
		}
	}
	return dst
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
func (r Record) MarshalJSON() ([]byte, error) { return r.AppendJSON(nil), nil }

// AppendJSON appends the record as RFC 8427 §2.2 says.
func (r *Record) AppendJSON(dst []byte) []byte {
	return r.appendRest(appendHead(dst, r.Name, r.Type, r.Class))
}

// appendRest appends what comes behind the members that questions have too.
func (r *Record) appendRest(dst []byte) []byte {
	dst = strconv.AppendUint(append(dst, `,"TTL":`...), uint64(r.TTL), 10)
	dst = appendMember(dst, `,"RDLENGTH":`, len(r.Data))
	dst = append(appendHex(append(dst, `,"RDATAHEX":"`...), r.Data), '"')
	before := len(dst)
	dst = append(append(append(dst, `,"rdata`...), r.Type.String()...), `":"`...)
	start := len(dst)
	if dst = r.AppendValue(dst); bytes.HasPrefix(dst[start:], generic) {
		return append(dst[:before], '}') // which RDATAHEX says already
	}
	return append(escapeText(dst, start), `"}`...)
}

// generic is what the generic form of an RDATA begins with (RFC 3597 §5).
var generic = []byte(`\#`)

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

package wire

import (
	"encoding/hex"
	"encoding/json"
)

// messageJSON is a message as RFC 8427 §2.1 lays it out; the order of keys is
// that of the header.
type messageJSON struct {
	ID            uint16
	QR            bool
	Opcode        uint8
	AA            bool
	TC            bool
	RD            bool
	RA            bool
	AD            bool
	CD            bool
	RCODE         uint16
	QDCOUNT       int
	ANCOUNT       int
	NSCOUNT       int
	ARCOUNT       int
	QuestionRRs   []questionJSON   `json:"questionRRs,omitempty"`
	AnswerRRs     []map[string]any `json:"answerRRs,omitempty"`
	AuthorityRRs  []map[string]any `json:"authorityRRs,omitempty"`
	AdditionalRRs []map[string]any `json:"additionalRRs,omitempty"`
}

type questionJSON struct {
	NAME      string
	TYPE      uint16
	TYPEname  string
	CLASS     uint16
	CLASSname string
}

// MarshalJSON writes the message as RFC 8427 says.
func (m Message) MarshalJSON() ([]byte, error) {
	f := m.Flags
	j := messageJSON{
		ID: m.ID, QR: f.Has(QR), Opcode: uint8(f.Opcode()), AA: f.Has(AA), TC: f.Has(TC), RD: f.Has(RD),
		RA: f.Has(RA), AD: f.Has(AD), CD: f.Has(CD), RCODE: uint16(f.RCode()),
		QDCOUNT: len(m.Questions), ANCOUNT: len(m.Answer), NSCOUNT: len(m.Authority), ARCOUNT: len(m.Additional),
		AnswerRRs: recordsJSON(m.Answer), AuthorityRRs: recordsJSON(m.Authority), AdditionalRRs: recordsJSON(m.Additional),
	}
	for _, q := range m.Questions {
		j.QuestionRRs = append(j.QuestionRRs, questionJSON{q.Name.String(), uint16(q.Type), q.Type.String(), uint16(q.Class), q.Class.String()})
	}
	return json.Marshal(j)
}

func recordsJSON(records []Record) []map[string]any {
	var list []map[string]any
	for _, r := range records {
		list = append(list, r.members())
	}
	return list
}

// members are the record's JSON members (RFC 8427 §2.2 and §2.3).
func (r Record) members() map[string]any {
	m := map[string]any{
		"NAME": r.Name.String(), "TYPE": uint16(r.Type), "TYPEname": r.Type.String(),
		"CLASS": uint16(r.Class), "CLASSname": r.Class.String(), "TTL": r.TTL,
		"RDLENGTH": len(r.Data), "RDATAHEX": hex.EncodeToString([]byte(r.Data)),
	}
	if r.Type != OPT && r.Fields() != nil {
		m["rdata"+r.Type.String()] = r.Value()
	}
	return m
}

// MarshalJSON writes the record as RFC 8427 §2.2 says.
func (r Record) MarshalJSON() ([]byte, error) { return json.Marshal(r.members()) }

package wire

import (
	"encoding/hex"
	"encoding/json"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// vectors are records as the documents of their types show them. want is the
// text as it is written here, "" when it is the same; bytes are the RDATA in
// hex where the document gives them, or where they follow from it in the head.
var vectors = []struct {
	typ              Type
	text, want, wire string
}{
	{1, "192.0.2.1", "", "c0000201"},
	{3, "mail.example.", "", ""}, {4, "mail.example.", "", ""}, {7, "mail.example.", "", ""}, {8, "mail.example.", "", ""}, {9, "mail.example.", "", ""},
	{2, "dns1.hollowtarn.example.", "", "04646e7331 0a686f6c6c6f777461726e 076578616d706c65 00"},
	{5, "web.hollowtarn.example.", "", ""},
	{12, "web.hollowtarn.example.", "", ""},
	{10, `\# 3 010203`, "", "010203"},
	{11, "192.0.2.1 TCP smtp 53 0", "192.0.2.1 TCP 0 25 53", "c0000201 06 80000040000004"},
	{13, `CABIN-7 "ropeways"`, `"CABIN-7" "ropeways"`, "07434142494e2d37 08726f706577617973"},
	{14, "a.example. b.example.", "", ""},
	{16, `"" "a\"b\\c" "\000\255"`, "", "00 05 6122625c63 02 00ff"},
	{16, strings.Repeat("x", 255), `"` + strings.Repeat("x", 255) + `"`, ""},
	{17, "louie.trantor.example. LAM1.people.example.", "", ""}, // RFC 1183 §2.2's form
	{18, "1 bigbird.toaster.example.", "", "0001 0762696762697264 07746f6173746572 076578616d706c65 00"},
	{19, `311061700956`, `"311061700956"`, ""},                 // RFC 1183 §3.1
	{20, `150862028003217 004`, `"150862028003217" "004"`, ""}, // RFC 1183 §3.2
	{20, `150862028003217`, `"150862028003217"`, ""},           // the subaddress is optional
	{21, "10 relay.prime.example.", "", ""},                    // RFC 1183 §3.3
	{22, "0x47.0005.80.005a00.0000.0001.e133.ffffff000161.00", "0x47000580005a0000000001e133ffffff00016100", "47000580005a0000000001e133ffffff00016100"}, // RFC 1706 §6
	{23, "foo.bar.example.", "", ""},
	{24, "A 1 3 3600 20380119031407 20370101000000 12345 example. AQID", "", "0001 01 03 00000e10 7fffffff 7e06e400 3039 076578616d706c65 00 010203"},
	{25, "256 3 5 AQID", "", "0100 03 05 010203"},
	{26, "10 net2.example. PRMD-net2.ADMD-p400.C-tarn.", "", ""},       // RFC 2163 §4
	{27, `-32.6882 116.8652 10.0`, `"-32.6882" "116.8652" "10.0"`, ""}, // RFC 1712 §3
	{28, "2001:db8::1", "", "20010db8000000000000000000000001"},
	{29, "42 21 54 N 71 06 18 W -24m 30m", "42 21 54.000 N 71 6 18.000 W -24m 30m 10000m 10m", ""}, // RFC 1876 §4
	{29, "52 14 05 N 00 08 50 E 10m", "52 14 5.000 N 0 8 50.000 E 10m 1m 10000m 10m", ""},
	{29, "90 S 180 W -100000.00 0 90000000.00m 0.01", "90 0 0.000 S 180 0 0.000 W -100000m 0m 90000000m 0.01m", "00 00 99 10 6cb02700 59604e00 00000000"},
	{100, `\# 3 010203`, "", "010203"}, {101, `\# 3 010203`, "", "010203"}, {102, `\# 3 010203`, "", "010203"}, {103, `\# 3 010203`, "", "010203"},
	{30, "foo.bar.example. A MX SIG", "", ""}, {66, "CDS NOTIFY 5359 scanner.example.", "CDS 1 5359 scanner.example.", ""}, {67, "AQID", "", "010203"}, {68, "AQID", "", "010203"}, {263, `"TCP-v4-v6"`, "", ""}, {264, "977000", "", "00000000000ee868"},
	{31, "e32c6f78163a9348", "", ""}, {32, "32251a030067", "", ""},
	{33, "0 1 9 old-slow-box.example.", "", ""}, // RFC 2782
	{34, "+358400123", "", "01 333538343030313233"}, {34, "47000580", "", "00 47000580"},
	{35, `100 50 "a" "z3950+N2L+N2C" "" cidserver.example.com.`, "", ""},  // RFC 3403 §6.1
	{35, `100 10 "" "" "!^urn:cid:.+@([^\\.]+\\.)(.*)$!\\2!i" .`, "", ""}, // RFC 3403 §6.2
	{36, "10 kx.example.", "", ""},
	{37, "PGP 0 0 AQID", "", "0003 0000 00 010203"}, {37, "999 1 RSASHA256 AQID", "999 1 8 AQID", "03e7 0001 08 010203"},
	{38, "64 ::1234:5678:1:2 SUBNET-1.IP6.EXAMPLE.", "64 ::1234:5678:1:2 SUBNET-1.IP6.EXAMPLE.", "40 1234567800010002 085355424e45542d31 03495036 074558414d504c45 00"}, // RFC 2874 §3.1
	{38, "0 2345:c1:ca11:1:1234:5678:9abc:def0", "", "00 234500c1ca110001123456789abcdef0"}, {38, "128 :: a.example.", "", "80 0161 076578616d706c65 00"},
	{39, "frobozz-division.acme.example.", "", ""}, // RFC 6672 §2.1
	{40, "1 2 3 AQID", "", "01 02 03 010203"},
	{42, "1:192.168.32.0/21 !1:192.168.38.0/28", "", "0001 15 03 c0a820 0001 1c 83 c0a826"}, {42, "1:224.0.0.0/4 2:FF00:0:0:0:0:0:0:0/8", "1:224.0.0.0/4 2:ff00::/8", "0001 04 01 e0 0002 08 01 ff"}, // RFC 3123 §4, §9
	{43, "60485 5 1 2BB183AF5F22588179A53B0A98631FAD1A292118", "60485 5 1 2bb183af5f22588179a53b0a98631fad1a292118", "ec45 05 01 2bb183af5f22588179a53b0a98631fad1a292118"}, // RFC 4034 §5.4
	{44, "2 1 123456789abcdef67890123456789abcdef67890", "", "02 01 123456789abcdef67890123456789abcdef67890"},                                                              // RFC 4255 §3.2
	{45, "10 1 2 192.0.2.38 AQNRU3mG7TVTO2BkR47usntb102uFJtugbo6BSGvgqt4AQ==", "", ""},                                                                                      // RFC 4025 §3.2
	{45, "10 0 2 . AQNRU3mG7TVTO2BkR47usntb102uFJtugbo6BSGvgqt4AQ==", "", ""}, {45, "10 3 2 mygateway.example.com. AQNRU3mG", "", ""}, {45, "10 2 2 2001:db8:0:8002::2000:1 AQNRU3mG", "", ""},
	{46, "A 5 3 86400 20030322173103 20030220173103 2642 example.com. oJB1W6WNGv+ldvQ3WDG0MQkg5IEhjRip8WTrPYGv07h108dUKGMeDPKijVCHX3DDKdfb+v6oB9wfuh3DTJXUAfI/M0zmO/zz8bW0Rznl8O3tGNazPwQKkRN20XPXV6nwwfoXmJQbsLNrLfkGJ5D6fwFm8nN+6pBzeDQfsS3Ap3o=", "", ""}, // RFC 4034 §3.3
	{47, "host.example.com. A MX RRSIG NSEC TYPE1234", "", "04686f7374 076578616d706c65 03636f6d 00 0006400100000003 041b" + strings.Repeat("00", 26) + "20"},                                                                                                // RFC 4034 §4.3
	{48, "256 3 5 AQPSKmynfzW4kyBv015MUG2DeIQ3Cbl+BBZH4b/0PY1kxkmvHjcZc8nokfzj31GajIQKY+5CptLr3buXA10hWqTkF7H6RfoRqXQeogmMHfpftf6zMv1LyBUgia7za6ZEzOJBOztyvhjL742iU/TpPSEDhm2SNKLijfUppn1UaNvv4w==", "", ""},                                                 // RFC 4034 §2.3
	{49, "AAIBY2/AuCccgoJbsaxcQc9TUapptP69lOjxfNuVAA2kjEA=", "", "000201636fc0b8271c82825bb1ac5c41cf5351aa69b4febd94e8f17cdb95000da48c40"},                                                                                                                   // RFC 4701 §3.6.1
	{50, "1 1 12 aabbccdd 2t7b4g4vsa5smi47k61mv5bv1a22bojr MX DNSKEY NS SOA NSEC3PARAM RRSIG", "1 1 12 aabbccdd 2T7B4G4VSA5SMI47K61MV5BV1A22BOJR NS SOA MX RRSIG DNSKEY NSEC3PARAM", ""},                                                                     // RFC 5155 appendix A
	{50, "1 0 0 - 2T7B4G4VSA5SMI47K61MV5BV1A22BOJR", "", ""}, {51, "1 0 12 aabbccdd", "", "01 00 000c 04 aabbccdd"}, {51, "1 0 0 -", "", "01 00 0000 00"},
	{52, "0 0 1 d2abde240d7cd3ee6b4b28c54df034b97983a1d16e8a410e4561cb106618e971", "", ""}, {52, "DANE-EE SPKI SHA2-256 d2abde24", "3 1 1 d2abde24", "03 01 01 d2abde24"}, // RFC 6698 §2.3, RFC 7218
	{53, "3 1 1 d2abde24", "", ""},
	{55, "2 200100107B1A74DF365639CC39F1D578 AwEAAbdx rvs1.example.com. rvs2.example.com.", "2 200100107b1a74df365639cc39f1d578 AwEAAbdx rvs1.example.com. rvs2.example.com.", ""}, // RFC 8005 §6
	{56, `"zone" "state"`, "", ""}, {57, "0 3 8 AQID", "", ""}, {58, "a.example. b.example.", "", ""}, {59, "0 0 0 00", "", "0000 00 00 00"}, {60, "0 3 0 AA==", "", "0000 03 00 00"}, // RFC 8078 §4
	{61, "AQID", "", "010203"}, {62, "66 3 A NS AAAA", "", "00000042 0003 000460000008"}, // RFC 7477 §2.2
	{63, "2018031500 1 1 FEBE3D4CE2EC2FFA4BA99D46CD69D6D29711E55217057BEE 7EB1A7B641A47BA7FED2DD5B97AE499FAFA4F22C6BD647DE", "2018031500 1 1 febe3d4ce2ec2ffa4ba99d46cd69d6d29711e55217057bee7eb1a7b641a47ba7fed2dd5b97ae499fafa4f22c6bd647de", ""}, // RFC 8976 §2.3
	// RFC 9460 appendix D.
	{65, "0 foo.example.com.", "", "0000 03666f6f 076578616d706c65 03636f6d 00"},
	{64, "1 .", "", "0001 00"},
	{64, "16 foo.example.com. port=53", "", "0010 03666f6f 076578616d706c65 03636f6d 00 0003 0002 0035"},
	{64, "1 foo.example.com. key667=hello", `1 foo.example.com. key667="hello"`, "0001 03666f6f 076578616d706c65 03636f6d 00 029b 0005 68656c6c6f"},
	{64, `1 foo.example.com. key667="hello\210qoo"`, "", "0001 03666f6f 076578616d706c65 03636f6d 00 029b 0009 68656c6c6fd2716f6f"},
	{64, `1 foo.example.com. ipv6hint="2001:db8::1,2001:db8::53:1"`, "1 foo.example.com. ipv6hint=2001:db8::1,2001:db8::53:1", "0001 03666f6f 076578616d706c65 03636f6d 00 0006 0020 20010db8000000000000000000000001 20010db8000000000000000000530001"},
	{64, "16 foo.example.org. alpn=h2,h3-19 mandatory=ipv4hint,alpn ipv4hint=192.0.2.1", `16 foo.example.org. mandatory=alpn,ipv4hint alpn="h2,h3-19" ipv4hint=192.0.2.1`, "0010 03666f6f 076578616d706c65 036f7267 00 0000 0004 0001 0004 0001 0009 026832 0568332d3139 0004 0004 c0000201"},
	{64, `16 foo.example.org. alpn="f\\\\oo\\,bar,h2"`, "", "0010 03666f6f 076578616d706c65 036f7267 00 0001 000c 08665c6f6f2c626172 026832"},
	{64, `16 foo.example.org. alpn=f\\\092oo\092,bar,h2`, `16 foo.example.org. alpn="f\\\\oo\\,bar,h2"`, "0010 03666f6f 076578616d706c65 036f7267 00 0001 000c 08665c6f6f2c626172 026832"},
	{65, `1 . no-default-alpn alpn=h2 ech=AQID dohpath=/q{?dns} ohttp tls-supported-groups=29,23 key65000`, `1 . alpn="h2" no-default-alpn ech=AQID dohpath="/q{?dns}" ohttp tls-supported-groups=29,23 key65000`, ""},
	{64, `1 . key3="\001"`, "", "0001 00 0003 0001 01"},                                                                                                                                                                                                                      // a port of one byte is written as an unknown key's value
	{99, `"v=spf1 -all"`, "", ""}, {104, "10 0014:4fff:ff20:ee64", "", "000a 00144fffff20ee64"}, {105, "10 10.1.2.0", "", "000a 0a010200"}, {106, "10 2001:0DB8:1140:1000", "10 2001:0db8:1140:1000", "000a 20010db811401000"}, {107, "10 l64-subnet1.example.com.", "", ""}, // RFC 6742 §2
	{108, "00-00-5e-00-53-2a", "", "00005e00532a"}, {109, "00-00-5e-ef-10-00-00-2a", "", "00005eef1000002a"}, // RFC 7043
	{256, `10 1 "ftp://ftp1.example.com/public"`, "", "000a 0001 6674703a2f2f667470312e6578616d706c652e636f6d2f7075626c6963"},                              // RFC 7553 §5
	{257, `0 issue "ca1.example.net"`, "", "00 056973737565 6361312e6578616d706c652e6e6574"}, {257, `128 tbs "Unknown"`, "", "80 03746273 556e6b6e6f776e"}, // RFC 8659 §4
	{258, `"app-name:tarn" "app-class:tickets"`, "", ""}, {259, `0 1 2 "" aGk=`, "", "00000000 00000001 02 00 6869"}, {259, `0 0 1 "text/html" -`, "", ""},
	{260, "10 0 1 203.0.113.15", "", "0a 01 cb00710f"}, {260, "10 1 3 amtrelays.example.com.", "", "0a 83 09616d7472656c617973 076578616d706c65 03636f6d 00"}, {260, "128 1 0 .", "", "80 80"}, // RFC 8777 §4.3
	{261, `"qnamemin" "exterr=15-17"`, "", ""}, {262, `"BTC" "tarn"`, "", ""}, {32768, "60485 5 1 2bb183af", "", ""}, {32769, "60485 5 1 2bb183af", "", ""},
	{249, "gss-tsig. 20260301000000 20260302000000 3 0 3 AQID 0", "", ""}, {250, "hmac-sha256. 1772323200 300 3 AQID 4711 BADTIME 6 AAAAAAAA", "hmac-sha256. 1772323200 300 3 AQID 4711 18 6 AAAAAAAA", "0b686d61632d73686132353600 000069a38180 012c 0003 010203 1267 0012 0006 000000000000"},
	{6, "dns1.example. host.example. 7 7200 900 1209600 600", "", ""}, {15, "10 mx1.hollowtarn.example.", "", ""},
}

// written are the types that can be written as text: all but the question types
// and OPT (RFC 6891 §6.1.1).
func written() []Type {
	all := append(Types(), 249, 250)
	slices.Sort(all)
	return all
}

func TestVectors(t *testing.T) {
	tested := map[Type]bool{}
	for _, v := range vectors {
		t.Run(v.typ.String()+" "+v.text[:min(20, len(v.text))], func(t *testing.T) {
			tested[v.typ] = true
			data, err := ParseRecordData(v.typ, IN, v.text)
			require.NoError(t, err)
			r := Record{MustParseName("tarn.example"), v.typ, IN, 60, data}
			want := v.want
			if want == "" {
				want = v.text
			}
			assert.Equal(t, want, r.Value())
			if v.wire != "" {
				assert.Equal(t, strings.ReplaceAll(v.wire, " ", ""), hex.EncodeToString([]byte(data)))
			}
			roundTrip(t, r)
		})
	}
	for _, typ := range written() {
		assert.True(t, tested[typ], "%s has a vector", typ)
		assert.NotEmpty(t, typ.Source())
	}
}

// roundTrip holds that a record survives text, JSON and the wire, and that each
// of its bytes is named.
func roundTrip(t *testing.T, r Record) {
	data, err := ParseRecordData(r.Type, r.Class, r.Value())
	require.NoError(t, err, "%s %s", r.Type, r.Value())
	require.Equal(t, r.Data, data, "%s %s", r.Type, r.Value())
	m := Message{ID: 7, Flags: QR | AA, Answer: []Record{r}, Questions: []Question{{r.Name, r.Type, r.Class}}}
	bytes, err := m.Bytes()
	if err != nil {
		require.ErrorIs(t, err, ErrMessageSize)
		return
	}
	again, err := ReadMessage(bytes)
	require.NoError(t, err)
	require.Equal(t, m, again)
	asJSON, err := json.Marshal(m)
	require.NoError(t, err)
	var back Message
	require.NoError(t, json.Unmarshal(asJSON, &back), "%s", asJSON)
	require.Equal(t, m, back)
	for _, p := range assertCovered(t, bytes) {
		require.True(t, isPlain(p.Value) && isPlain(p.Meaning), "%q %q", p.Value, p.Meaning)
	}
	require.True(t, isPlain(r.Value()), "what is shown has no control byte: %q", r.Value())
}

func isPlain(s string) bool {
	return strings.IndexFunc(s, unicode.IsControl) < 0
}

func TestWrongText(t *testing.T) {
	for _, tt := range []struct {
		typ         Type
		text, field string
		err         error
	}{
		{29, "91 N 0 E 0m", "LOC", ErrValue}, {29, "42 60 N 0 E 0m", "LOC", ErrValue}, {29, "42 N 71 W", "LOC", ErrMissing}, {29, "42 N 71 W 1.234m", "LOC", ErrValue},
		{42, "3:192.0.2.0/24", "APITEM", ErrValue}, {42, "1:2001:db8::/32", "APITEM", ErrValue},
		{43, "1 5 1 2BB", "Digest", ErrValue}, {45, "10 1 2 2001:db8::1 AQID", "gateway", ErrValue}, {45, "10 4 2 . AQID", "gateway", ErrValue}, {45, "10 0 2 a. AQID", "gateway", ErrValue},
		{46, "A 5 3 86400 20031322173103 0 1 a. AQID", "Signature Expiration", ErrValue},
		{47, "a. TARN", "Type Bit Maps", ErrUnknownType}, {48, "256 3 5 ???", "Public Key", ErrValue}, {50, "1 0 0 xyz 2T7B A", "Salt", ErrValue}, {50, "1 0 0 - !!! A", "Next Hashed Owner Name", ErrValue},
		{108, "00-00-5e-00-53", "EUI-48", ErrValue}, {104, "10 14:4fff:ff20:ee64", "NodeID", ErrValue}, {22, "4700", "NSAP", ErrValue}, {55, "2 zz AQID", "HIT and public key", ErrValue},
		{260, "10 2 1 192.0.2.1", "D-bit and type", ErrValue}, {16, strings.Repeat("x", 256), "TXT-DATA", ErrStringLong}, {11, "192.0.2.1 TCP tarn", "BIT MAP", ErrValue}, {41, "1", "OPTION", ErrValue},
		// What must not be missing.
		{25, "256 3 5", "public key", ErrMissing}, {37, "PGP 0 0", "certificate or CRL", ErrMissing}, {43, "60485 5 1", "Digest", ErrMissing}, {44, "2 1", "fingerprint", ErrMissing}, {46, "A 5 3 60 20380101000000 20370101000000 1 a.", "Signature", ErrMissing},
		{48, "256 3 5", "Public Key", ErrMissing}, {49, "", "DHCID", ErrMissing}, {52, "3 1 1", "Certificate Association Data", ErrMissing}, {59, "0 0 0", "Digest", ErrMissing}, {60, "0 3 0", "Public Key", ErrMissing},
		{61, "", "public key", ErrMissing}, {63, "1 1 1", "Digest", ErrMissing}, {30, "a.", "type bit map", ErrMissing},
		{64, "1 foo. mandatory=alpn", "SvcParams", ErrParamMandatory}, {64, "1 foo. mandatory=mandatory", "SvcParams", ErrParamMandatory}, {64, "1 foo. no-default-alpn", "SvcParams", ErrParamDefault}, {64, "1 foo. ALPN=h2", "SvcParams", ErrValue},
		// RFC 9460 appendix D.3.
		{64, "1 foo. key123=abc key123=def", "SvcParams", ErrParamOrder}, {64, "1 foo. mandatory", "SvcParams", ErrValue}, {64, "1 foo. alpn", "SvcParams", ErrValue}, {64, "1 foo. port", "SvcParams", ErrValue},
		{64, "1 foo. ipv4hint", "SvcParams", ErrValue}, {64, "1 foo. no-default-alpn=abc", "SvcParams", ErrValue}, {64, "1 foo. mandatory=key0,key0", "SvcParams", ErrValue}, {64, "1 foo. Tarn=1", "SvcParams", ErrValue},
	} {
		_, err := ParseRecordData(tt.typ, IN, tt.text)
		var text *TextError
		require.ErrorAs(t, err, &text, "%s %s", tt.typ, tt.text)
		assert.Equal(t, tt.field, text.Field, "%s %s", tt.typ, tt.text)
		assert.ErrorIs(t, err, tt.err, "%s %s", tt.typ, tt.text)
	}
	for _, bad := range []string{`"open`, `a"b`, `"a"b`, `a\`} {
		_, err := ParseRecordData(TXT, IN, bad)
		require.Error(t, err, bad)
	}
}

// source is where generated bytes come from: the fuzzer's, then zeros.
type source struct{ bytes []byte }

func (s *source) next() byte {
	if len(s.bytes) == 0 {
		return 0
	}
	b := s.bytes[0]
	s.bytes = s.bytes[1:]
	return b
}

func (s *source) take(n int) (out []byte) {
	for range n {
		out = append(out, s.next())
	}
	return out
}

// shapes are the ways in which bytes are given a form that some kind of field
// may take; whichever the kind accepts is used, so a new kind needs none of its own.
var shapes = []func(s *source) []byte{
	func(s *source) []byte { return s.take(int(s.next() % 40)) },
	func(s *source) []byte { n := s.next() % 40; return append([]byte{n}, s.take(int(n))...) },
	func(s *source) []byte { n := s.next() % 40; return append([]byte{0, n}, s.take(int(n))...) },
	func(s *source) (name []byte) {
		for n := s.next() % 4; n > 0; n-- {
			label := s.take(1 + int(s.next()%20))
			name = append(append(name, byte(len(label))), label...)
		}
		return append(name, 0)
	},
	func(s *source) (blocks []byte) {
		for window := s.next() % 4; window < 4; window += 1 + s.next()%4 {
			bits := append(s.take(int(s.next()%31)), s.next()|1)
			blocks = append(append(blocks, window, byte(len(bits))), bits...)
		}
		return blocks
	},
	func(s *source) (params []byte) {
		for key := s.next() % 12; key < 12; key += 1 + s.next()%6 {
			value := s.take(int(s.next() % 24))
			params = append(append(params, 0, key, 0, byte(len(value))), value...)
		}
		return params
	},
	func(s *source) []byte {
		n := s.next() % 17
		return append([]byte{0, 1 + s.next()%2, s.next(), n}, s.take(int(n))...)
	},
	func(s *source) []byte { n := s.next() % 17; return append([]byte{n, 2, 0, n}, s.take(2*int(n))...) },
}

// generate makes an RDATA for a row of the table.
func generate(r *row, s *source) string {
	var data []byte
	for i := range r.fields {
		f := &r.fields[i]
		times := 1
		if f.repeat != once {
			times = int(s.next() % 4)
		}
		for range times {
			for range 3 * len(shapes) {
				candidate := shapes[int(s.next())%len(shapes)](s)
				whole := string(append(slices.Clone(data), candidate...))
				if size, err := f.kind.span(whole, len(data)); err == nil && size <= len(candidate) {
					data = []byte(whole[:len(data)+size])
					break
				}
			}
		}
	}
	return string(data)
}

func roundTripGenerated(t *testing.T, number uint16, bytes []byte) (usable bool) {
	types := written()
	typ := types[int(number)%len(types)]
	r := Record{MustParseName("tarn.example"), typ, IN, 60, string(bytes)}
	if row := rowOf(typ, IN); row != nil {
		r.Data = generate(row, &source{bytes})
		if _, _, err := row.check(r.Data); err != nil {
			return false
		}
	}
	roundTrip(t, r)
	return true
}

// A new row is generated and held to the round trips without new code.
func TestEveryTypeRoundTripsGeneratedData(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 5))
	for i, typ := range written() {
		usable := 0
		for range 120 {
			bytes := make([]byte, 300)
			for k := range bytes {
				bytes[k] = byte(random.Uint32())
			}
			if roundTripGenerated(t, uint16(i), bytes) {
				usable++
			}
		}
		assert.Greater(t, usable, 10, "data of type %s can be generated", typ)
	}
}

func FuzzTypes(f *testing.F) {
	for i := range written() {
		f.Add(uint16(i), []byte("0"))
		f.Add(uint16(i), []byte("\x00\x0bhollow tarn\x01\x02\x03\x04\x05\x06\x07\x08"))
	}
	f.Fuzz(func(t *testing.T, number uint16, bytes []byte) { roundTripGenerated(t, number, bytes) })
}

func FuzzJSON(f *testing.F) {
	m, err := ReadMessage(reply(f))
	require.NoError(f, err)
	data, err := json.Marshal(m)
	require.NoError(f, err)
	f.Add(data)
	f.Add([]byte(`{"answerRRs":[]}`))
	f.Add([]byte(`{"QNAME":"www.example","QTYPEname":"A","answerRRs":[{"NAME":"www.example","TYPEname":"A","TTL":1,"rdataA":"192.0.2.1"}]}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		var m Message
		if err := json.Unmarshal(data, &m); err != nil {
			return
		}
		again, err := json.Marshal(m)
		require.NoError(t, err)
		var n Message
		require.NoError(t, json.Unmarshal(again, &n), "%s", again)
		n.Trailing = m.Trailing // bytes beyond the message are no part of it
		require.Equal(t, m, n)
	})
}

func TestJSON(t *testing.T) {
	m, err := ReadMessage(reply(t))
	require.NoError(t, err)
	m.Additional = []Record{EDNS{Size: 1232, DO: true, Options: []Option{{EDE, "\x00\x16all gone"}, {9999, "\x01"}}}.Record(0)}
	data, err := json.Marshal(m)
	require.NoError(t, err)
	for _, want := range []string{`"ID":4660,"QR":true,"Opcode":0,"AA":false`, `"rdataA":"203.0.113.120"`, `"TYPEname":"CNAME"`, `"RDATAHEX":"cb007178"`,
		`"dnssec_ok":true`, `"name":"EDE","hex":"0016616c6c20676f6e65","text":"22 (No Reachable Authority) \"all gone\""`, `"name":"OPTION9999"`} {
		assert.Contains(t, string(data), want)
	}
	var back Message
	require.NoError(t, json.Unmarshal(data, &back))
	assert.Equal(t, m, back)
	require.NoError(t, json.Unmarshal([]byte(`{"messageOctetsHEX":"`+hex.EncodeToString(reply(t))+`"}`), &back))
	assert.Len(t, back.Answer, 3)
	for _, bad := range []string{`[]`, `{"Opcode":16}`, `{"QNAME":"a..b","QTYPE":1}`, `{"answerRRs":[{"NAME":"a","TYPE":1,"RDATAHEX":"01"}]}`, `{"answerRRs":[{"NAME":"a","TYPE":1}]}`, `{"messageOctetsHEX":"00"}`} {
		require.ErrorContains(t, json.Unmarshal([]byte(bad), &back), "", bad)
	}
}

func TestEDNSOptions(t *testing.T) {
	for _, tt := range []struct {
		code       uint16
		hex, words string
	}{
		{3, "", "asked for"}, {3, "7a7572", `"zur"`}, {3, "00ff", "00ff"},
		{8, "00011800 c00002", "for clients in 192.0.2.0/24; the answer holds for /0"}, {8, "00023820 20010db8000100", "for clients in 2001:db8:1::/56; the answer holds for /32"}, {8, "0003", "0003"},
		{9, "00127500", "the zone expires in 2 weeks (1209600)"}, {10, "0102030405060708", "client 0102030405060708"}, {10, "01020304050607081112131415161718", "client 0102030405060708, server 1112131415161718"}, {10, "01", "01"},
		{11, "0064", "the connection is kept for 10.0 s"}, {12, "000000", "3 bytes"}, {13, "076578616d706c6500", "trusted from example. down"}, {14, "4f66 9728", "trusts keys 20326 38696"},
		{15, "0016", "22 (No Reachable Authority)"}, {15, "000f1b5b", `15 (Blocked) "\027["`}, {15, "00", "00"}, {18, "067461726e2d61076578616d706c6500", "errors are reported under tarn-a.example."},
		{19, "02007868ff86", "SOA serial 2020147078 of the zone with 2 labels"}, {5, "080d", "RSASHA256 ECDSAP256SHA256"}, {4242, "abcd", "abcd"},
	} {
		data, err := hex.DecodeString(strings.ReplaceAll(tt.hex, " ", ""))
		require.NoError(t, err)
		assert.Equal(t, tt.words, Option{tt.code, string(data)}.Text(), "option %d", tt.code)
	}
	e := EDNS{Size: 1232, Version: 1, DO: true, Options: []Option{{Cookie, "12345678"}}}
	m := Message{Flags: QR, Additional: []Record{e.Record(BadVers)}}
	assert.Equal(t, BadVers, m.RCode())
	got, ok := m.EDNS()
	assert.True(t, ok)
	assert.Equal(t, e, got)
}

func TestCanonicalOrder(t *testing.T) {
	at := func(name string, typ Type, text string) Record { r := record(t, name, typ, text); return r }
	mixed := at("WWW.example", MX, "10 MAIL.Example.")
	assert.Equal(t, at("www.example", MX, "10 mail.example."), mixed.Canonical())
	nsec := at("a.example", 47, "B.example. A")
	assert.Equal(t, nsec.Data, nsec.Canonical().Data, "the next name of an NSEC keeps its case (RFC 6840 §5.1)")
	sorted := SortCanonical([]Record{at("b.example", A, "192.0.2.2"), at("b.example", A, "192.0.2.10"), at("a.b.example", A, "192.0.2.1"), at("B.example", A, "192.0.2.2"), at("example", A, "192.0.2.1")})
	var lines []string
	for _, r := range sorted {
		lines = append(lines, r.Name.String()+" "+r.Value())
	}
	assert.Equal(t, []string{"example. 192.0.2.1", "b.example. 192.0.2.2", "b.example. 192.0.2.10", "a.b.example. 192.0.2.1"}, lines)
}

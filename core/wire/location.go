package wire

import (
	"fmt"
	"math"
	"strconv"
	"strings"
)

// location is a LOC record's RDATA (RFC 1876 §2): version, size and precisions,
// latitude, longitude, altitude.
var location = &kind{
	name: "location",
	span: fixed(16),
	text: func(dst []byte, field, _ string) []byte {
		dst = appendAngle(dst, unsigned(field[4:8]), 'N', 'S')
		dst = appendAngle(append(dst, ' '), unsigned(field[8:12]), 'E', 'W')
		dst = appendMetres(append(dst, ' '), int64(unsigned(field[12:16]))-altitudeZero)
		for i := 1; i < 4; i++ {
			dst = appendMetres(append(dst, ' '), precision(field[i]))
		}
		return dst
	},
	odd: func(field, _ string) bool {
		bad := field[0] != 0 || math.Abs(angle(unsigned(field[4:8]))) > 90*3600_000 || math.Abs(angle(unsigned(field[8:12]))) > 180*3600_000
		for i := 1; i < 4; i++ {
			// Zero metres have only one way to be written: 0 times 10 to the 0.
			bad = bad || field[i]>>4 > 9 || field[i]&15 > 9 || field[i]>>4 == 0 && field[i] != 0
		}
		return bad
	},
	parse: func(dst []byte, words *Words) ([]byte, error) {
		latitude, err := parseAngle(words, 90, "N", "S")
		if err != nil {
			return dst, err
		}
		longitude, err := parseAngle(words, 180, "E", "W")
		if err != nil {
			return dst, err
		}
		altitude, err := parseMetres(words, altitudeLimit)
		if err != nil {
			return dst, err
		}
		sizes := []byte{0x12, 0x16, 0x13} // 1 m, 10 km, 10 m when nothing is said
		for i := range sizes {
			if words.left() == 0 {
				break
			}
			centimetres, err := parseMetres(words, precision(0x99))
			if err != nil || centimetres < 0 {
				return dst, ErrValue
			}
			sizes[i] = precisionByte(centimetres)
		}
		dst = append(append(dst, 0), sizes...)
		dst = appendUnsigned(appendUnsigned(dst, latitude, 4), longitude, 4)
		return appendUnsigned(dst, uint64(altitude+altitudeZero), 4), nil
	},
	parts: func(field string) []part {
		metres := func(v int64) string { return string(appendMetres(nil, v)) }
		return []part{
			{1, "VERSION", strconv.Itoa(int(field[0])), ""},
			{1, "SIZE", metres(precision(field[1])), "across, of what stands there"},
			{1, "HORIZ PRE", metres(precision(field[2])), "how exact the place is"},
			{1, "VERT PRE", metres(precision(field[3])), "how exact the height is"},
			{4, "LATITUDE", string(appendAngle(nil, unsigned(field[4:8]), 'N', 'S')), "degrees, minutes, seconds from the equator"},
			{4, "LONGITUDE", string(appendAngle(nil, unsigned(field[8:12]), 'E', 'W')), "degrees, minutes, seconds from the prime meridian"},
			{4, "ALTITUDE", metres(int64(unsigned(field[12:16])) - altitudeZero), "above the reference ellipsoid"},
		}
	},
}

const (
	altitudeZero  = 10_000_000 // centimetres: altitudes count from 100 km below
	altitudeLimit = math.MaxUint32 - altitudeZero
)

// angle is thousandths of a second of arc, from 2^31 as zero.
func angle(v uint64) float64 { return float64(int64(v) - 1<<31) }

func appendAngle(dst []byte, v uint64, positive, negative byte) []byte {
	thousandths, hemisphere := int64(v)-1<<31, positive
	if thousandths < 0 {
		thousandths, hemisphere = -thousandths, negative
	}
	return fmt.Appendf(dst, "%d %d %d.%03d %c", thousandths/3600_000, thousandths/60_000%60, thousandths/1000%60, thousandths%1000, hemisphere)
}

// parseAngle reads degrees [minutes [seconds]] and the hemisphere.
func parseAngle(words *Words, limit int64, positive, negative string) (uint64, error) {
	var total int64
	for _, unit := range []int64{3600_000, 60_000, 1000, 0} {
		word, err := words.take()
		if err != nil {
			return 0, err
		}
		text := string(word.Text)
		switch upper := strings.ToUpper(text); {
		case unit < 3600_000 && (upper == positive || upper == negative):
			if total > limit*3600_000 {
				return 0, ErrValue
			}
			if upper == negative {
				total = -total
			}
			return uint64(total + 1<<31), nil
		case unit == 0:
			return 0, ErrValue
		case unit == 1000:
			v, ok := decimalPlaces(text, 3)
			if !ok || v >= 60_000 {
				return 0, ErrValue
			}
			total += v
		default:
			v, err := strconv.ParseUint(text, 10, 8)
			if err != nil || unit == 60_000 && v > 59 {
				return 0, ErrValue
			}
			total += int64(v) * unit
		}
	}
	return 0, ErrValue
}

// decimalPlaces reads a number with up to that many decimals as an integer of
// the smallest place: "54.5" with 3 is 54500.
func decimalPlaces(text string, places int) (int64, bool) {
	whole, decimals, _ := strings.Cut(text, ".")
	if len(decimals) > places || whole == "" || strings.Trim(whole+decimals, "0123456789") != "" {
		return 0, false
	}
	v, err := strconv.ParseInt(whole+decimals+strings.Repeat("0", places-len(decimals)), 10, 64)
	return v, err == nil
}

// appendMetres writes centimetres as metres.
func appendMetres(dst []byte, centimetres int64) []byte {
	if centimetres < 0 {
		dst, centimetres = append(dst, '-'), -centimetres
	}
	dst = strconv.AppendInt(dst, centimetres/100, 10)
	if centimetres%100 != 0 {
		dst = fmt.Appendf(dst, ".%02d", centimetres%100)
	}
	return append(dst, 'm')
}

// parseMetres reads metres as centimetres: -100000.00m up to the limit.
func parseMetres(words *Words, limit int64) (int64, error) {
	word, err := words.take()
	if err != nil {
		return 0, err
	}
	text, negative := strings.CutPrefix(strings.TrimSuffix(string(word.Text), "m"), "-")
	v, ok := decimalPlaces(text, 2)
	if !ok || v > limit || negative && v > altitudeZero {
		return 0, ErrValue
	}
	if negative {
		v = -v
	}
	return v, nil
}

// precision is the centimetres of a byte: four bits times ten to the other four.
func precision(b byte) int64 {
	v := int64(b >> 4)
	for range b & 15 {
		v *= 10
	}
	return v
}

// precisionByte is the largest such byte not over the centimetres.
func precisionByte(centimetres int64) byte {
	exponent := byte(0)
	for centimetres > 9 {
		centimetres /= 10
		exponent++
	}
	if centimetres == 0 {
		return 0
	}
	return byte(centimetres)<<4 | exponent
}

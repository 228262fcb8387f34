// Package charset reads texts in the encodings that source files have: UTF-8 with and without a
// byte order mark, UTF-16 with one, and Latin-1 (ISO 8859-1). What is written back has the
// encoding that was read.
package charset

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"unicode/utf16"
	"unicode/utf8"
)

// Encoding is how a text is written as bytes.
type Encoding string

// The encodings.
const (
	UTF8    Encoding = "UTF-8"
	Marked  Encoding = "UTF-8 with a byte order mark"
	UTF16LE Encoding = "UTF-16LE"
	UTF16BE Encoding = "UTF-16BE"
	Latin1  Encoding = "ISO-8859-1"
)

// ErrBinary means that bytes are no text, or one in an encoding that cannot be told.
var ErrBinary = errors.New("this is no text, or its encoding cannot be told")

const mark = "\ufeff"

// Decode reads a text, without its byte order mark.
func Decode(data []byte) (text string, e Encoding, err error) {
	switch {
	case bytes.HasPrefix(data, []byte{0xff, 0xfe}) && len(data)%2 == 0:
		return decode16(data, UTF16LE, binary.LittleEndian)
	case bytes.HasPrefix(data, []byte{0xfe, 0xff}) && len(data)%2 == 0:
		return decode16(data, UTF16BE, binary.BigEndian)
	case bytes.IndexByte(data, 0) >= 0:
		return "", "", ErrBinary
	case utf8.Valid(data) && bytes.HasPrefix(data, []byte(mark)):
		return string(data[len(mark):]), Marked, nil
	case utf8.Valid(data):
		return string(data), UTF8, nil
	}
	runes := make([]rune, len(data))
	for i, c := range data {
		if c < ' ' && c != '\t' && c != '\n' && c != '\r' && c != '\f' && c != 0x1b {
			return "", "", ErrBinary
		}
		runes[i] = rune(c)
	}
	return string(runes), Latin1, nil
}

func decode16(data []byte, e Encoding, order binary.ByteOrder) (string, Encoding, error) {
	units := make([]uint16, len(data)/2-1)
	for i := range units {
		units[i] = order.Uint16(data[2*i+2:])
	}
	text := string(utf16.Decode(units))
	if back, err := Encode(text, e); err != nil || !bytes.Equal(back, data) {
		return "", "", ErrBinary // half a pair of surrogates
	}
	return text, e, nil
}

// Encode writes a text. It fails on a character that the encoding does not have.
func Encode(text string, e Encoding) ([]byte, error) {
	switch e {
	case UTF16LE, UTF16BE:
		var order binary.AppendByteOrder = binary.LittleEndian
		if e == UTF16BE {
			order = binary.BigEndian
		}
		out := order.AppendUint16(nil, 0xfeff)
		for _, unit := range utf16.Encode([]rune(text)) {
			out = order.AppendUint16(out, unit)
		}
		return out, nil
	case Latin1:
		out := make([]byte, 0, len(text))
		for _, r := range text {
			if r > 0xff {
				return nil, fmt.Errorf("the file is %s, which has no %q", e, r)
			}
			out = append(out, byte(r))
		}
		return out, nil
	}
	if e == Marked {
		text = mark + text
	}
	return []byte(text), nil
}

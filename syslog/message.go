// Package syslog reads and writes messages of the syslog protocol: the present form (RFC 5424) and the older one (RFC 3164), over UDP (RFC
// 5426), TCP (RFC 6587) and TLS (RFC 5425).
//
// [Parse] never fails: whatever a device sends is a message, at the least its text with the severity that RFC 3164 gives one without a head.
// [Listen] hears messages, [Sender] sends some.
package syslog

import (
	"bytes"
	"fmt"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"
)

// A Severity is how bad something is (RFC 5424, section 6.2.1); 0 is the worst.
type Severity int

// Severities.
const (
	Emergency Severity = iota
	Alert
	Critical
	Error
	Warning
	Notice
	Info
	Debug
)

var severities = []string{"emergency", "alert", "critical", "error", "warning", "notice", "info", "debug"}

func (s Severity) String() string {
	if s < 0 || int(s) >= len(severities) {
		return "unknown"
	}
	return severities[s]
}

// Facilities of what we send: security messages, and local use (RFC 5424, section 6.2.1).
const (
	Audit  = 13
	Local0 = 16
)

// A Message is one message. What it does not say is empty.
type Message struct {
	Facility int
	Severity Severity
	At       time.Time // zero: it does not say, or not in a way that is understood
	Host     string
	App      string
	Process  string
	ID       string
	Data     map[string]map[string]string // structured data: by its kind and name
	Text     string
}

// MostBytes bounds a message; what is longer is cut.
const MostBytes = 64 << 10

// noHead is the priority of a message that gives none (RFC 3164, section 4.3.3).
const noHead = 1<<3 | int(Notice)

// Parse reads a message. now is the time that fills in the year, which the older form does not say.
func Parse(line []byte, now time.Time) Message {
	if len(line) > MostBytes {
		line = line[:MostBytes]
	}
	text := strings.TrimRight(plain(line), "\n ")
	pri, rest, ok := priority(text)
	m := Message{Facility: pri >> 3, Severity: Severity(pri & 7)}
	if !ok {
		m.Text = text
		return m
	}
	if after, is := strings.CutPrefix(rest, "1 "); is && m.present(after) {
		return m
	}
	m.older(rest, now)
	return m
}

// plain is a text that can be kept and shown: valid, and without control characters but line ends and tabs.
func plain(line []byte) string {
	line = bytes.TrimPrefix(line, []byte("\xef\xbb\xbf"))
	text := strings.ToValidUTF8(string(line), string(utf8.RuneError))
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) && r != '\n' && r != '\t' {
			return -1
		}
		return r
	}, text)
}

// priority reads <PRI>: up to three digits, 191 at most, without leading zeros.
func priority(text string) (pri int, rest string, ok bool) {
	end := strings.IndexByte(text, '>')
	if !strings.HasPrefix(text, "<") || end < 2 || end > 4 {
		return noHead, text, false
	}
	n, err := strconv.ParseUint(text[1:end], 10, 8)
	if err != nil || n > 191 || text[1] == '0' && end > 2 {
		return noHead, text, false
	}
	return int(n), text[end+1:], true
}

// present reads what stands behind the version in the form of RFC 5424, section 6. It reports whether it is that form.
func (m *Message) present(text string) bool {
	out := *m
	var at string
	for _, into := range []*string{&at, &out.Host, &out.App, &out.Process, &out.ID} {
		word, rest, ok := strings.Cut(text, " ")
		if !ok || word == "" {
			return false
		}
		if word != "-" {
			*into = word
		}
		text = rest
	}
	if at != "" {
		t, err := time.Parse(time.RFC3339Nano, at)
		if err != nil {
			return false
		}
		out.At = t
	}
	rest, ok := out.structured(text)
	if !ok {
		return false
	}
	out.Text = strings.TrimPrefix(strings.TrimPrefix(rest, " "), "\ufeff")
	*m = out
	return true
}

// structured reads structured data (RFC 5424, section 6.3).
func (m *Message) structured(text string) (rest string, ok bool) {
	if rest, ok := strings.CutPrefix(text, "-"); ok {
		return rest, rest == "" || rest[0] == ' '
	}
	if !strings.HasPrefix(text, "[") {
		return text, false
	}
	m.Data = map[string]map[string]string{}
	for strings.HasPrefix(text, "[") {
		end := strings.IndexAny(text, " ]")
		if end < 2 {
			return text, false
		}
		params := map[string]string{}
		m.Data[text[1:end]] = params
		for text = text[end:]; ; {
			if after, closed := strings.CutPrefix(text, "]"); closed {
				text = after
				break
			}
			var name, value string
			if name, value, text, ok = param(strings.TrimLeft(text, " ")); !ok {
				return text, false
			}
			params[name] = value
		}
	}
	return text, text == "" || text[0] == ' '
}

// param reads name="value", in which a backslash stands before quotes, backslashes and closing brackets.
func param(text string) (name, value, rest string, ok bool) {
	name, text, ok = strings.Cut(text, `="`)
	if !ok || name == "" || strings.ContainsAny(name, ` ]"`) {
		return "", "", text, false
	}
	var out strings.Builder
	for i := 0; i < len(text); i++ {
		switch {
		case text[i] == '\\' && i+1 < len(text) && strings.IndexByte(`"\]`, text[i+1]) >= 0:
			i++
			out.WriteByte(text[i])
		case text[i] == '"':
			return name, out.String(), text[i+1:], true
		default:
			out.WriteByte(text[i])
		}
	}
	return "", "", text, false
}

// older reads the form of RFC 3164, section 4.1, in which devices take liberties: what is not understood is text.
func (m *Message) older(text string, now time.Time) {
	rest := text
	if t, after, ok := olderTime(text, now); ok {
		m.At, rest = t, after
		if host, after, ok := strings.Cut(rest, " "); ok && host != "" && !strings.ContainsAny(host, ":[") {
			m.Host, rest = host, after
		}
	}
	if end := strings.IndexFunc(rest, func(r rune) bool { return !tagRune(r) }); end > 0 && end <= 48 {
		tag, after := rest[:end], rest[end:]
		process := ""
		if inside, behind, ok := strings.Cut(strings.TrimPrefix(after, "["), "]"); ok && strings.HasPrefix(after, "[") {
			process, after = inside, behind
		}
		if text, ok := strings.CutPrefix(after, ":"); ok {
			m.App, m.Process, m.Text = tag, process, strings.TrimPrefix(text, " ")
			return
		}
	}
	m.Text = rest
}

// tagRune is what the tag of the older form is made of: the name of a program.
func tagRune(r rune) bool {
	return unicode.IsLetter(r) || unicode.IsDigit(r) || strings.ContainsRune("-_./", r)
}

// olderTime reads "Mmm dd hh:mm:ss", or a time as in RFC 3339, which many write there.
func olderTime(text string, now time.Time) (t time.Time, rest string, ok bool) {
	if word, after, found := strings.Cut(text, " "); found {
		if t, err := time.Parse(time.RFC3339Nano, word); err == nil {
			return t, after, true
		}
	}
	const form = "Jan _2 15:04:05"
	if len(text) < len(form)+1 || text[len(form)] != ' ' {
		return t, text, false
	}
	t, err := time.ParseInLocation(form, text[:len(form)], now.Location())
	if err != nil {
		return t, text, false
	}
	t = t.AddDate(now.Year(), 0, 0)
	if t.After(now.AddDate(0, 1, 0)) { // it was said before the turn of the year
		t = t.AddDate(-1, 0, 0)
	}
	return t, text[len(form)+1:], true
}

// Format writes a message in the form of RFC 5424.
func (m *Message) Format() string {
	word := func(s string, most int) string {
		s = strings.Map(func(r rune) rune {
			if r <= ' ' || r > '~' {
				return -1
			}
			return r
		}, s)
		if s = s[:min(len(s), most)]; s == "" {
			return "-"
		}
		return s
	}
	at := "-"
	if !m.At.IsZero() {
		at = m.At.UTC().Format("2006-01-02T15:04:05.000000Z07:00")
	}
	data := ""
	for kind, params := range m.Data {
		data += "[" + kind
		for name, value := range params {
			data += fmt.Sprintf(` %s="%s"`, name, strings.NewReplacer(`\`, `\\`, `"`, `\"`, `]`, `\]`).Replace(value))
		}
		data += "]"
	}
	if data == "" {
		data = "-"
	}
	text := strings.ReplaceAll(plain([]byte(m.Text)), "\n", " ")
	return fmt.Sprintf("<%d>1 %s %s %s %s %s %s %s", m.Facility<<3|int(m.Severity), at, word(m.Host, 255), word(m.App, 48), word(m.Process, 128),
		word(m.ID, 32), data, text)
}

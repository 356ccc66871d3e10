package netconf

import (
	"bytes"
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"

	"verimorph/device/link"
)

const notifications = "urn:ietf:params:xml:ns:netconf:notification:1.0"

// Subscribe asks for the notifications of a stream (RFC 5277; "" is the usual one) over a session of its own, and passes each on as one line,
// until ctx or the session ends. It returns why.
func Subscribe(ctx context.Context, l link.Link, address, stream string, hear func(text string)) error {
	const doing = "create-subscription"
	s, err := openFor(ctx, ctx, l, address, doing)
	if err != nil {
		return err
	}
	defer s.close()
	what := `<create-subscription xmlns="` + notifications + `"/>`
	if stream != "" {
		var name bytes.Buffer
		_ = xml.EscapeText(&name, []byte(stream))
		what = `<create-subscription xmlns="` + notifications + `"><stream>` + name.String() + `</stream></create-subscription>`
	}
	if _, err := s.call(what); err != nil {
		return s.failed(err, doing)
	}
	for {
		msg, err := s.read()
		if err != nil {
			return s.failed(err, doing)
		}
		if text, err := oneLine(msg); err == nil && text != "" {
			hear(text)
		}
	}
}

// mostWords bounds the line that a notification becomes, in bytes.
const mostWords = 2000

// oneLine is a notification as a line: what happened, and the values that come with it, by their names.
func oneLine(msg []byte) (string, error) {
	var n struct {
		XMLName xml.Name `xml:"notification"`
		Inner   []byte   `xml:",innerxml"`
	}
	if err := unmarshal(msg, &n); err != nil {
		return "", err
	}
	d := xml.NewDecoder(bytes.NewReader(n.Inner))
	var names, values []string
	event, text := "", ""
	for {
		t, err := d.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return "", fmt.Errorf("%w: %s", errDocument, err)
		}
		switch t := t.(type) {
		case xml.StartElement:
			names, text = append(names, t.Name.Local), ""
			if len(names) == 1 && t.Name.Local != "eventTime" {
				event = t.Name.Local
			}
		case xml.CharData:
			text += string(t)
		case xml.EndElement:
			if v := strings.Join(strings.Fields(text), " "); v != "" && len(names) > 1 {
				values = append(values, strings.Join(names[1:], ".")+"="+v)
			}
			names, text = names[:len(names)-1], ""
		}
	}
	line := strings.TrimSuffix(event+": "+strings.Join(values, ", "), ": ")
	return line[:min(len(line), mostWords)], nil
}

package netconf

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// peer is a session whose other side has said all it will say.
func peer(said string, chunked bool) (*session, *bytes.Buffer) {
	var sent bytes.Buffer
	return &session{messages: messages{in: &sent, out: bufio.NewReader(iotest.OneByteReader(strings.NewReader(said))), chunked: chunked}}, &sent
}

func chunksOf(pieces ...string) string {
	var b strings.Builder
	for _, p := range pieces {
		fmt.Fprintf(&b, "\n#%d\n%s", len(p), p)
	}
	return b.String() + "\n##\n"
}

// Messages are taken apart as RFC 6242 frames them, however the bytes arrive; what is not framed so is an error.
func TestNetconfFrames(t *testing.T) {
	for said, want := range map[string]string{"<a/>]]>]]>rest": "<a/>", "<a>]]></a>]]>]]>": "<a>]]></a>", "]]>]]>": ""} {
		n, _ := peer(said, false)
		got, err := n.read()
		require.NoError(t, err)
		assert.Equal(t, want, string(got))
	}
	for said, want := range map[string]string{chunksOf("<a/>"): "<a/>", chunksOf("<a", "/>", "\n#4\n"): "<a/>\n#4\n"} {
		n, _ := peer(said, true)
		got, err := n.read()
		require.NoError(t, err)
		assert.Equal(t, want, string(got))
	}
	for said, says := range map[string]string{
		"":                           "the session ended after 0 bytes",
		"\n#4\n<a":                   "the session ended after 2 bytes",
		"#4\n<a/>\n##\n":             "a chunk without a head",
		"\n#0\n\n##\n":               "a chunk of",
		"\n#-1\n<a/>\n##\n":          "a chunk of",
		"\n#99999999999\n<a/>\n##\n": "a chunk of",
		"\n#4294967295\n<a/>\n##\n":  "a chunk of",
		"\n#4":                       "a chunk without a head",
	} {
		n, _ := peer(said, true)
		_, err := n.read()
		assert.ErrorContains(t, err, says, "%q", said)
	}
	n, _ := peer("<a/>", false)
	_, err := n.read()
	assert.ErrorContains(t, err, "the session ended after 4 bytes")
}

func TestNetconfCalls(t *testing.T) {
	reply := func(id int, inner string) string {
		return fmt.Sprintf(`<rpc-reply message-id="%d" xmlns="%s">%s</rpc-reply>`, id, netconfBase, inner)
	}
	n, sent := peer(chunksOf(reply(1, "<ok/>"))+chunksOf(reply(2, `<rpc-error><error-tag>in-use</error-tag><error-message> somebody
		has it </error-message></rpc-error>`))+chunksOf(reply(7, "<ok/>"))+chunksOf("no xml"), true)
	_, err := n.call("<lock/>")
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(sent.String(), "\n#"))
	assert.Contains(t, sent.String(), `message-id="1"`)
	assert.True(t, strings.HasSuffix(sent.String(), "<lock/></rpc>\n##\n"))
	_, err = n.call("<lock/>")
	var refused rpcErrors
	require.ErrorAs(t, err, &refused)
	assert.EqualError(t, err, "in-use: somebody has it")
	_, err = n.call("<lock/>")
	assert.ErrorContains(t, err, `a reply to message "7", not to 3`)
	_, err = n.call("<lock/>")
	assert.ErrorIs(t, err, errDocument)
	old, sent := peer(reply(1, "<ok/>")+endOfMessage, false)
	_, err = old.call("<lock/>")
	require.NoError(t, err)
	assert.True(t, strings.HasSuffix(sent.String(), "</rpc>"+endOfMessage))
}

// Whatever a device sends, reading ends, and holds no more than it was sent.
func FuzzNetconfRead(f *testing.F) {
	f.Add("<a/>]]>]]>", false)
	f.Add(chunksOf("<a", "/>"), true)
	f.Add("\n#4294967295\n<a/>\n##\n", true)
	f.Fuzz(func(t *testing.T, said string, chunked bool) {
		n := &messages{in: io.Discard, out: bufio.NewReader(strings.NewReader(said)), chunked: chunked}
		for range 100 {
			msg, err := n.read()
			if err != nil {
				return
			}
			if len(msg) > len(said) {
				t.Fatalf("%d bytes of %d", len(msg), len(said))
			}
		}
	})
}

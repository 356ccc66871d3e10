package convert

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/config"
)

// What no rule can decide is settled by a person's word, with the reason in the ledger; a guarded setting has to be accepted as well.
func TestWhatIsSettledByHand(t *testing.T) {
	l := demo(t)
	at := stop(t, l, "RC-6@F2.12")
	text := demoConfig(t, "marrow-ramp1.ini")
	doc, broken := config.Parse("ramp.ini", text, l.Schema(at).Syntax)
	require.Empty(t, broken)
	run := func(answers map[string]string) (*Result, map[string]SourceItem) {
		r, err := l.Convert(Job{From: at, To: stop(t, l, "RC-6@F3.05"), Answers: answers}, doc)
		require.NoError(t, err)
		assert.Empty(t, Check(text, r.Text, r.S, r.T, r.Ledger))
		rows := map[string]SourceItem{}
		for _, row := range r.Ledger.Source {
			rows[row.Path] = row
		}
		return r, rows
	}
	_, rows := run(nil)
	assert.Equal(t, [2]string{NeedsPerson, AskSettle}, [2]string{rows["ramp stern / horn"].State, rows["ramp stern / horn"].Ask})
	assert.Equal(t, [2]string{NeedsPerson, AskAccept}, [2]string{rows["drive 1 / speed"].State, rows["drive 1 / speed"].Ask})
	assert.Empty(t, rows["ramp bow / horn"].Ask, "a rule drops it")

	for at, settled := range map[string]bool{"ramp stern / horn": true, "ramp stern": true, "ramp": false, "ramp bow": false, "": false} {
		r, rows := run(map[string]string{"settled @ " + at: "one horn sounds for 5 seconds everywhere"})
		row := rows["ramp stern / horn"]
		if !settled {
			assert.Equal(t, NeedsPerson, row.State, "%q", at)
			continue
		}
		assert.Equal(t, SourceItem{Line: row.Line, Column: row.Column, Path: row.Path, Text: row.Text, Section: row.Section, State: Dropped, Rule: "PU7", Reason: "settled by hand: one horn sounds for 5 seconds everywhere", Targets: []int{}}, row)
		assert.False(t, r.Ledger.Complete(), "the drives are still open")
	}

	answers := map[string]string{"settled @ ramp stern / horn": "done by hand", "settled @ drive 1 / speed": "is no way to accept"}
	_, rows = run(answers)
	assert.Equal(t, AskAccept, rows["drive 1 / speed"].Ask, "guarded settings are accepted, not settled")
	for path, row := range rows {
		if row.Ask == AskAccept {
			answers["guarded @ "+path] = Accept
		}
	}
	r, _ := run(answers)
	assert.True(t, r.Ledger.Complete(), "%v", states(r))
}

// What has an answer or a mapping of its own is not settled by a word.
func TestWhatIsAskedOtherwise(t *testing.T) {
	l := demo(t)
	at := stop(t, l, "TH-60@4.2.9")
	doc, broken := config.Parse("control-fw1.cfg", demoConfig(t, "control-fw1.cfg"), l.Schema(at).Syntax)
	require.Empty(t, broken)
	asked := func(answers map[string]string) map[string]string {
		r, err := l.Convert(Job{From: at, To: stop(t, l, "TH-80@5.4.2"), Answers: answers}, doc)
		require.NoError(t, err)
		out := map[string]string{}
		for _, row := range r.Ledger.Source {
			assert.Equal(t, row.State == NeedsPerson, row.Ask != "", row.Path)
			if row.Ask != "" {
				out[row.Path] = row.Ask
			}
		}
		return out
	}
	before := asked(nil)
	assert.Equal(t, AskPorts, before["port p1"])
	assert.Equal(t, AskAnswer, before["tunnel hollen-0 / cipher"])
	assert.Equal(t, AskSettle, before["port p5 / duplex"])
	words := map[string]string{}
	for path := range before {
		words["settled @ "+path] = "I say so"
	}
	after := asked(words)
	for path, ask := range before {
		if ask == AskSettle {
			assert.Empty(t, after[path], path)
		} else {
			assert.Equal(t, ask, after[path], path)
		}
	}
}

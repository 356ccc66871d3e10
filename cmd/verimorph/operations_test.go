package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/api/gen"
	"verimorph/core/change"
)

// served are the kinds as the service lists them.
func served() (out []gen.StepKind) {
	for _, k := range change.Kinds {
		item := gen.StepKind{Kind: string(k.Kind), Title: k.Title}
		if k.Alone != nil {
			item.Operation = &struct {
				Help  string                     `json:"help"`
				Once  *bool                      `json:"once,omitempty"`
				Takes gen.StepKindOperationTakes `json:"takes"`
			}{Takes: gen.StepKindOperationTakes(k.Alone.Takes)}
		}
		out = append(out, item)
	}
	return out
}

// Operations as they are written on the command line: what each takes, and what is wrong with those that cannot be read.
func TestOperationsAsTheyAreWritten(t *testing.T) {
	key := filepath.Join(t.TempDir(), "key")
	require.NoError(t, os.WriteFile(key, []byte("  secret word\n"), 0o600))
	for text, want := range map[string]gen.Operation{
		"backup":              {Kind: "backup"},
		"send:a.img":          {Kind: "send", File: new("a.img")},
		"checksum:a.img":      {Kind: "checksum", File: new("a.img")},
		"install:a.img":       {Kind: "install", File: new("a.img")},
		"component:logic.x":   {Kind: "component", File: new("logic.x")},
		"power:cards":         {Kind: "power", Part: new("cards")},
		"clean-up:a, b":       {Kind: "clean-up", Files: &[]string{"a", "b"}},
		"hand:look: closely":  {Kind: "hand", Text: new("look: closely")},
		"choose-slot":         {Kind: "choose-slot"},
		"choose-slot:once":    {Kind: "choose-slot", Once: new(true)},
		"choose-slot:a":       {Kind: "choose-slot", Slot: new("a")},
		"choose-slot:a:once":  {Kind: "choose-slot", Slot: new("a"), Once: new(true)},
		"rename-slot:a=b":     {Kind: "rename-slot", Slot: new("a"), Name: new("b")},
		"remove-slot:a":       {Kind: "remove-slot", Slot: new("a")},
		"licence:full=" + key: {Kind: "licence", Part: new("full"), Key: new("secret word")},
		"licence:full":        {Kind: "licence", Part: new("full")},
	} {
		got, err := readOperation(served(), text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for text, says := range map[string]string{"dance": "there is no operation", "": "there is no operation", "verdict": "there is no operation", "send": "send:FILE", "clean-up:": "needs something after a colon", "hand": "needs something after a colon",
		"licence": "needs something after a colon", "licence:/full": "should look like NAME=FILE", "licence:full=/nowhere": "no such file", "backup:now": "takes nothing after a colon", "choose-slot:a:twice": "the name of a slot and once", "rename-slot:a": "the name and the new one", "remove-slot": "remove-slot:SLOT"} {
		_, err := readOperation(served(), text)
		assert.ErrorContains(t, err, says, text)
	}
	for _, k := range change.Operations() {
		assert.True(t, strings.Contains(operationsHelp(), "  "+string(k.Kind)), k.Kind)
		_, known := argument[k.Alone.Takes]
		assert.True(t, known, "how %s is written is not known", k.Kind)
	}
}

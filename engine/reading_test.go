package engine

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/catalog"
	"verimorph/core/convert"
	"verimorph/device"
)

// What a device gives back is read by the schema of its release, which alone knows where its banners end and which orders matter.
func TestConfigurationsAreReadByTheirSchema(t *testing.T) {
	f, found := catalog.ReadFile("toy.yaml", []byte(`format: verimorph-catalogue/1
maker: Toy
family: toy
title: toy
configuration: {syntax: block-indent, secrets: []}
models: [{name: A, title: a}]
releases: [{version: 1.0, train: "1", date: 2020-01-01, stage: general}]
rules: []
`))
	require.Empty(t, found.Errors())
	cat := &catalog.Catalogue{}
	cat.Add(f)
	lib, found := convert.Load(cat, []convert.File{{Name: "s.yaml", Data: []byte(`format: verimorph-schema/1
id: s
family: toy
releases: ">=1"
syntax: block-indent
text-blocks: [{begin: 'banner (\S)', end: "{1}", delimiter: "^"}]
statements:
  banner: text
  name: text
  acl: {key: word, words: [name], ordered: true, statements: {permit: {key: words, words: ["text..."]}}}
`)}})
	require.Empty(t, found.Errors(), "%s", found.Error())
	e := &Engine{Config: Config{Library: func(context.Context) (*convert.Library, error) { return lib, nil }}}
	for _, c := range []struct {
		what, release, want, got string
		same                     bool
	}{
		{"another order of lines", "1.0", "name x\nbanner ^say \"hello\n^\n", "banner ^say \"hello\n^\nname x\n", true},
		{"another text", "1.0", "name x\nbanner ^say \"hello\n^\n", "banner ^say \"hell\n^\nname x\n", false},
		{"another order where it decides", "1.0", "acl a\n  permit x\n  permit y\n", "acl a\n  permit y\n  permit x\n", false},
		{"a release that nobody described, another order of lines", "x", "name x\nplace y\n", "place y\nname x\n", true},
		{"a release that nobody described, what cannot be read", "x", "banner ^say \"hello\n^\n", "banner ^say  \"hello\n^\n", false},
	} {
		same, err := e.same(context.Background(), "A", c.release, RestorePart{File: "a.cfg", Syntax: "block-indent"}, &device.Part{}, []byte(c.want), []byte(c.got))
		require.NoError(t, err)
		assert.Equal(t, c.same, same, c.what)
	}
}

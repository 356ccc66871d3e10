package yamldoc

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"
)

// even is a number that reads itself.
type even int

func (e *even) UnmarshalYAML(n *yaml.Node) error {
	var i int
	if err := n.Decode(&i); err != nil {
		return err
	}
	if i%2 != 0 {
		return &yaml.TypeError{Errors: []string{"odd"}}
	}
	*e = even(i)
	return nil
}

type boxFile struct {
	Name  string  `yaml:"name"`
	Size  float64 `yaml:"size"`
	On    *bool   `yaml:"on"`
	Count int     `yaml:"count"`
	Even  even    `yaml:"even"`
	Ports []struct {
		Name string `yaml:"name"`
	} `yaml:"ports"`
	Limits map[string]boxLimit `yaml:"limits"`
	hidden int
}

type boxLimit struct {
	Most int `yaml:"most"`
}

// Every mistake of a file is found in one go, where it stands; what is right is read.
func TestStruct(t *testing.T) {
	text := "name: b\nsize: 1.5\non: true\neven: 4\nports:\n  - {name: p1}\n  - {nmae: p2}\n  - p3\nlimits:\n  users: {most: many}\n  users: {most: 3}\n  files: {most: 7}\ncount: [1]\nnam: c\nname: d\neven: 3\n"
	root, broken := Parse("b.yaml", []byte(text), "")
	require.Nil(t, broken)
	r := Reader{File: "b.yaml"}
	var b boxFile
	r.Struct(root, "a box", &b)
	r.Found.Sort()
	assert.Equal(t, `b.yaml:7:6: error: ports has no field "nmae" (do you mean name?)
b.yaml:8:5: error: ports must be a mapping (write it as key: value lines)
b.yaml:10:17: error: most must be a whole number, not "many" (write a whole number)
b.yaml:11:3: error: limits has "users" twice (keep one of them)
b.yaml:13:8: error: count must be a whole number (write a whole number)
b.yaml:14:1: error: a box has no field "nam" (do you mean name?)
b.yaml:15:1: error: a box has "name" twice (keep one of them)
b.yaml:16:1: error: a box has "even" twice (keep one of them)`, r.Found.Error())
	assert.Equal(t, []any{"b", 1.5, true, even(4), "p1", 7}, []any{b.Name, b.Size, *b.On, b.Even, b.Ports[0].Name, b.Limits["files"].Most})
	assert.Zero(t, b.hidden)

	n := Find(root, "limits", "files", "most")
	assert.Equal(t, []int{12, 17}, []int{n.Line, n.Column})
	assert.Equal(t, 7, Find(root, "ports", 1, "name").Line, "the deepest that there is")
	assert.Equal(t, "b", Find(root, "name").Value)
}

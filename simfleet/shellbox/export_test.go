package shellbox

import (
	"bufio"
	"bytes"
	"strings"
	"time"
)

// What the tests reach inside for, which use the behaviours of the makers and so lie outside of the package.

func (b *Box) Shelf(name string) string                     { return b.onShelf(name) }
func (b *Box) Put(name string, place int) error             { return b.install(name, place, quiet) }
func (b *Box) UnpackPlace(place int) error                  { return b.unpack(place, quiet) }
func (b *Box) ClonePlace(place int) error                   { return b.clone(place, quiet) }
func (b *Box) ChoosePlace(place int, once bool) error       { return b.choose(place, once) }
func (b *Box) UpdateComponent(component, file string) error { return b.update(component, file, quiet) }
func (b *Box) CycleComponent(component string) error        { return b.cycle(component) }
func (b *Box) PutBack(name, text string) error              { return (&Shell{b: b}).putBack(name, text) }
func (b *Box) Folder() string                               { return b.dir }

func quiet(int) {}

// Flows is the running work.
func (b *Box) Flows() int {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.flows()
}

// RestSince has the box take no new work since a moment.
func (b *Box) RestSince(at time.Time) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.st.Resting, b.st.RestAt = true, at
}

// Ask is what the box says for a verb, with what is typed meanwhile.
func (b *Box) Ask(do Verb, args map[string]string, typed string) (string, error) {
	var out bytes.Buffer
	err := do(&Shell{b: b, w: &out, in: bufio.NewReader(strings.NewReader(typed))}, args)
	return out.String(), err
}

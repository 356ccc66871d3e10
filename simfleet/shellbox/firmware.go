package shellbox

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"verimorph/simfleet/box"
	"verimorph/simfleet/firmware"
	"verimorph/simfleet/send"
)

// area is a place for an installation.
type area struct {
	Version  string
	State    string // good, writing, packed, broken, empty
	Progress int
	Config   string // of its own; the running one's is among the parts
	Password string // that applies when it runs; "": as before
	Fresh    bool
	Laid     time.Time // when it was written
}

// phases of a start.
const (
	off = iota
	linkUp
	loginUp
	ready
)

var phaseNames = [...]string{"off", "link", "login", "ready"}

func (b *Box) sim(d time.Duration) time.Duration { return time.Duration(float64(d) / b.factor) }

// since is the box's own time since its start. The caller holds the lock.
func (b *Box) since() time.Duration {
	d := time.Duration(float64(time.Since(b.st.BootAt)) * b.factor)
	if f, ok := b.st.Faults[SlowReturn]; ok && f.Armed() {
		d /= time.Duration(max(f.Value, 1))
	}
	return d
}

func (b *Box) phase() int {
	if f, ok := b.st.Faults[NeverReturn]; ok && f.Hit {
		return off
	}
	t := &b.m.Firmware
	switch since := b.since(); {
	case since < t.Link:
		return off
	case since < t.Login:
		return linkUp
	case since < t.Ready:
		return loginUp
	}
	return ready
}

// version is what runs. The caller holds the lock.
func (b *Box) version() string { return b.st.Areas[b.st.Running].Version }

func (b *Box) onShelf(name string) string {
	return filepath.Join(b.dir, "files", filepath.Base(name))
}

// files are what lies on the box: name and size.
func (b *Box) files() (names []string, sizes []int64, used int64) {
	entries, _ := os.ReadDir(filepath.Join(b.dir, "files"))
	for _, e := range entries {
		if st, err := e.Info(); err == nil && !strings.HasSuffix(e.Name(), ".coming") {
			names, sizes, used = append(names, e.Name()), append(sizes, st.Size()), used+st.Size()
		}
	}
	return names, sizes, used
}

func (b *Box) free() int64 {
	_, _, used := b.files()
	if f, ok := b.st.Faults[LowRoom]; ok {
		return max(min(f.Value, b.m.Firmware.Room-used), 0)
	}
	return max(b.m.Firmware.Room-used, 0)
}

// A store is a storage beside that for files.
type store struct {
	name        string
	free, total int64
}

// stores are where installations and records lie, on boxes that have them apart. The caller holds the lock.
func (b *Box) stores() []store {
	if !b.m.Firmware.Unpack {
		return nil
	}
	free := int64(3 << 20)
	if f, ok := b.st.Faults[LowPlaces]; ok {
		free = min(free, f.Value)
	}
	return []store{{"places", free, 8 << 20}, {"records", 1 << 20, 2 << 20}}
}

// bring fetches a file.
func (b *Box) bring(address, name string, progress func(done, total int64)) error {
	data, err := send.From(address)
	if err != nil {
		return err
	}
	b.mu.Lock()
	if f, ok := b.st.Faults[DropTransfer]; ok && f.Armed() && int64(len(data)) > f.Value {
		b.hit(DropTransfer)
		b.mu.Unlock()
		return fmt.Errorf("it broke off at %d", f.Value)
	}
	if b.free() < int64(len(data)) {
		b.mu.Unlock()
		return errors.New("no room for it")
	}
	if len(data) > 1000 && b.hit(CorruptTransfer) {
		data[len(data)/2] ^= 0x10
	}
	b.mu.Unlock()
	for part := range 4 {
		time.Sleep(b.sim(time.Duration(float64(len(data)) / 4 / b.m.Firmware.Rate * float64(time.Second))))
		progress(int64(len(data)*(part+1)/4), int64(len(data)))
	}
	tmp := b.onShelf(name) + ".coming"
	if err := os.WriteFile(tmp, data, 0o600); err != nil {
		return err
	}
	b.mu.Lock()
	b.st.Sent++
	b.mu.Unlock()
	return os.Rename(tmp, b.onShelf(name))
}

// read opens a file that lies on the box, or on the medium in it.
func (b *Box) read(name string) ([]byte, error) {
	if prefix := b.m.Firmware.Medium; prefix != "" && strings.HasPrefix(name, prefix) {
		b.mu.Lock()
		in := b.st.Medium
		b.mu.Unlock()
		if !in {
			return nil, errors.New("there is no card in it")
		}
		data, err := os.ReadFile(filepath.Join(b.MediumDir, filepath.Base(name)))
		if err != nil {
			return nil, errors.New("the card has no such file")
		}
		return data, nil
	}
	data, err := os.ReadFile(b.onShelf(name))
	if err != nil {
		return nil, errors.New("there is no such file")
	}
	return data, nil
}

func (b *Box) sum(name string) (string, error) {
	data, err := b.read(name)
	if err != nil {
		return "", err
	}
	time.Sleep(b.sim(5 * time.Second))
	s := sha256.Sum256(data)
	return fmt.Sprintf("%x", s), nil
}

// install writes an image into an area; where there is one area only, the box then starts anew in its factory state.
func (b *Box) install(name string, to int, progress func(int)) error {
	data, err := b.read(name)
	if err != nil {
		return err
	}
	h, err := firmware.Read(strings.NewReader(string(data)))
	if err != nil {
		return fmt.Errorf("that file is not right: %w", err)
	}
	b.mu.Lock()
	err = b.mayInstall(h, int64(len(data)), to)
	if err != nil {
		b.mu.Unlock()
		return err
	}
	a := &b.st.Areas[to]
	old := *a
	if b.m.Firmware.Areas > 1 {
		*a = area{Version: h.Version, State: "writing", Fresh: true}
	} else {
		a.State, a.Progress = "writing", 0
	}
	b.st.Installs++
	boots := b.st.Boots
	_, broken := b.st.Faults[InstallFails]
	broken = broken && b.hit(InstallFails)
	_ = b.save()
	b.mu.Unlock()
	for p := 10; p <= 100; p += 10 {
		time.Sleep(b.sim(b.m.Firmware.Install / 10))
		b.mu.Lock()
		if a.State != "writing" || b.st.Boots != boots {
			if a.State == "writing" {
				a.State = "broken"
				_ = b.save()
			}
			b.mu.Unlock()
			return errors.New("it was cut short")
		}
		a.Progress = p
		if broken && p == 50 {
			*a = area{Version: h.Version, State: "broken"}
			if b.m.Firmware.Areas == 1 { // it noticed before it let go of what it had
				*a = old
			}
			_ = b.save()
			b.mu.Unlock()
			return errors.New("writing failed half-way")
		}
		b.mu.Unlock()
		progress(p)
	}
	return b.installed(a, h.Version, old.Version)
}

// mayInstall says why an image cannot be written into an area. The caller holds the lock.
func (b *Box) mayInstall(h firmware.Header, size int64, to int) error {
	switch {
	case !slices.Contains(h.Models, b.Model):
		return fmt.Errorf("that is for %s", strings.Join(h.Models, ","))
	case h.Part != "":
		return fmt.Errorf("that is for %s", h.Part)
	case to < 0 || to >= len(b.st.Areas):
		return errors.New("there is no such place")
	case b.m.Firmware.Unpack && b.stores()[0].free < size:
		return errors.New("no room for it in places")
	case b.m.Firmware.Areas > 1 && to == b.st.Running:
		return errors.New("that one is running")
	case slices.ContainsFunc(b.st.Areas, func(a area) bool { return a.State == "writing" }):
		return b.spoil()
	}
	return nil
}

// installed has an area hold what was written into it.
func (b *Box) installed(a *area, version, old string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	switch {
	case b.m.Firmware.Areas == 1:
		*a = area{Version: version, State: "good"}
		if b.hit(OldVersion) {
			a.Version = old
		}
		if b.m.Firmware.Reset {
			b.factory()
		}
		b.restart()
	case b.m.Firmware.Unpack:
		a.State, a.Laid = "packed", time.Now().UTC()
	default:
		a.State, a.Laid = "good", time.Now().UTC()
	}
	return b.save()
}

// spoil is what a second installation does to the first: both write, and nothing of it can be used. The caller holds the lock.
func (b *Box) spoil() error {
	for i := range b.st.Areas {
		if a := &b.st.Areas[i]; a.State == "writing" {
			a.State = "broken"
		}
	}
	b.st.Spoilt++
	if b.m.Firmware.Areas == 1 { // there is nothing else to start
		b.brick()
	}
	return errors.Join(errors.New("two at once: nothing of it can be used"), b.save())
}

// brick leaves the box with nothing that starts. The caller holds the lock.
func (b *Box) brick() {
	b.st.Faults[NeverReturn] = box.Fault{Hit: true, Count: 1}
	b.st.BootAt = time.Now()
	b.st.Boots++
	b.st.Bricks++
	_ = b.save()
	b.host.Cut()
}

// factory puts the box into its factory state: its own parts, another host key, the password on its plate.
func (b *Box) factory() {
	for name, text := range b.m.Firmware.Factory(b.version()) {
		b.st.Parts[name] = text
	}
	b.st.HostKey = box.NewHostKey()
	b.st.Password = b.st.Plate
}

// restart starts the box from the area that was chosen. The caller holds the lock.
func (b *Box) restart() {
	from, to := b.st.Running, b.st.Next
	if b.st.Once >= 0 {
		to, b.st.Once = b.st.Once, -1
	}
	if b.hit(OldVersion) {
		to = from
	}
	if b.st.Areas[to].State != "good" { // half of an installation starts nothing
		b.brick()
		return
	}
	if from != to {
		b.runFrom(to)
	}
	b.startAll()
	if b.hit(NewHostKey) {
		b.st.HostKey = box.NewHostKey()
	}
	if host := ownAddress(b.st.Parts[b.m.Main]); host != "" {
		_, port, _ := net.SplitHostPort(b.Address)
		b.Address = net.JoinHostPort(host, port)
	}
	if b.moves != "" {
		b.Address, b.moves = b.moves, ""
	}
	b.st.Started, b.st.BootAt = time.Now(), time.Now()
	b.st.Boots++
	b.st.Resting = false
	b.hit(NeverReturn)
	b.hit(ServiceDown)
	b.hit(PartBad)
	if b.hit(LogErrors) {
		b.st.Mishaps = append(b.st.Mishaps, fmt.Sprintf("start %d: a part answered late", b.st.Boots))
	}
	_ = b.save()
	b.host.Cut()
}

// runFrom has the box run what lies in another area, with the configuration of there. The caller holds the lock.
func (b *Box) runFrom(to int) {
	old, now := &b.st.Areas[b.st.Running], &b.st.Areas[to]
	old.Config = b.st.Parts[b.m.Main]
	old.Password = b.st.Password
	if now.Fresh {
		now.Config, now.Fresh = old.Config, false
		if b.m.Firmware.Convert != nil {
			now.Config = b.m.Firmware.Convert(old.Config, old.Version, now.Version)
		}
	}
	if b.hit(LoseConfig) {
		now.Config = b.m.Firmware.Factory(now.Version)[b.m.Main]
	}
	if now.Config != "" {
		b.st.Parts[b.m.Main] = now.Config
	}
	if now.Password != "" {
		b.st.Password = now.Password
	}
	b.st.Running = to
}

// MovesTo has the box answer at another address after its next start.
func (b *Box) MovesTo(address string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.moves = address
}

// choose sets the area of the next start, or of the next start only.
func (b *Box) choose(n int, once bool) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if n < 0 || n >= len(b.st.Areas) || b.st.Areas[n].State != "good" {
		return errors.New("nothing in there can be started")
	}
	if once {
		b.st.Once = n
	} else {
		b.st.Next, b.st.Once = n, -1
	}
	return b.save()
}

// unpack makes a packed area one that can be started.
func (b *Box) unpack(n int, progress func(int)) error {
	b.mu.Lock()
	if n < 0 || n >= len(b.st.Areas) || b.st.Areas[n].State != "packed" {
		b.mu.Unlock()
		return errors.New("nothing packed is in there")
	}
	b.st.Areas[n].State = "writing"
	b.mu.Unlock()
	for p := 25; p <= 100; p += 25 {
		time.Sleep(b.sim(b.m.Firmware.Install / 4))
		progress(p)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.st.Areas[n].State = "good"
	return b.save()
}

// clone copies the running installation.
func (b *Box) clone(n int, progress func(int)) error {
	b.mu.Lock()
	if n < 0 || n >= len(b.st.Areas) || n == b.st.Running {
		b.mu.Unlock()
		return errors.New("there is no such place, or it is running")
	}
	run := b.st.Areas[b.st.Running]
	b.st.Areas[n] = area{Version: run.Version, State: "writing"}
	b.mu.Unlock()
	for p := 25; p <= 100; p += 25 {
		time.Sleep(b.sim(b.m.Firmware.Install / 4))
		progress(p)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.st.Areas[n] = area{Version: run.Version, State: "good", Config: b.st.Parts[b.m.Main], Password: b.st.Password}
	return b.save()
}

// update writes a component.
func (b *Box) update(component, name string, progress func(int)) error {
	data, err := b.read(name)
	if err != nil {
		return err
	}
	h, err := firmware.Read(strings.NewReader(string(data)))
	if err != nil {
		return fmt.Errorf("that file is not right: %w", err)
	}
	b.mu.Lock()
	_, known := b.st.Components[component]
	b.mu.Unlock()
	if !known || h.Part != component || !slices.Contains(h.Models, b.Model) {
		return fmt.Errorf("that file is not for %s of this box", component)
	}
	for p := 25; p <= 100; p += 25 {
		time.Sleep(b.sim(6 * time.Second))
		progress(p)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.hit(ComponentFails) {
		return errors.New("the part did not take it")
	}
	if b.ofUnits(component) {
		b.st.Units[b.st.Leader].Components[component] = h.Version
	}
	if slices.Contains(b.m.Firmware.Cycled, component) {
		b.st.Pending[component] = h.Version
	} else {
		b.st.Components[component] = h.Version
	}
	return b.save()
}

// cycle switches the parts of components off and on: what was written takes effect once they are up again.
func (b *Box) cycle(component string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if v := b.st.Pending[component]; v != "" {
		b.st.Components[component] = v
		delete(b.st.Pending, component)
	}
	b.st.CycledAt = time.Now()
	return b.save()
}

// flows is the running work: it ends by itself over a while when no new work is taken.
func (b *Box) flows() int {
	full := 400
	if b.phase() < ready {
		return 0
	}
	if !b.st.Resting {
		return min(full, int(float64(full)*float64(b.since()-b.m.Firmware.Ready)/float64(30*time.Second)))
	}
	gone := float64(time.Since(b.st.RestAt)) * b.factor / float64(40*time.Second)
	left := int(float64(full) * max(1-gone, 0))
	if f, ok := b.st.Faults[StuckWork]; ok && f.Armed() {
		left = max(left, 17)
	}
	return left
}

// well lists the parts with their state.
func (b *Box) well() (out [][2]string) {
	for i, p := range b.m.Firmware.Parts {
		state := "well"
		if f, ok := b.st.Faults[PartBad]; ok && (f.Hit || f.Value != 0) && i == 0 {
			state = "out of order"
		}
		out = append(out, [2]string{p, state})
	}
	for name, late := range b.m.Firmware.Cards {
		state := "well"
		cycled := time.Duration(float64(time.Since(b.st.CycledAt)) * b.factor)
		if b.since() < late || !b.st.CycledAt.IsZero() && cycled < b.m.Firmware.Cycle {
			state = "starting"
		}
		out = append(out, [2]string{name, state})
	}
	slices.SortFunc(out, func(a, b [2]string) int { return strings.Compare(a[0], b[0]) })
	return out
}

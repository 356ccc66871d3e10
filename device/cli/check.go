package cli

import (
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"strings"

	"verimorph/core/backup"
	"verimorph/core/config"
	"verimorph/core/near"
	"verimorph/core/yamldoc"
	"verimorph/device"
)

// Reading dialect files, and all that can be said about one without a device.

// ReadDialects reads every .yaml file of a folder. An error lists all that is wrong with them, with file, line and column.
func ReadDialects(fsys fs.FS) (map[string]*Dialect, error) {
	names, err := fs.Glob(fsys, "*.yaml")
	if err != nil {
		return nil, err
	}
	out := map[string]*Dialect{}
	var wrong yamldoc.Findings
	for _, name := range names {
		data, err := fs.ReadFile(fsys, name)
		if err != nil {
			return nil, err
		}
		d, found := Check(name, data)
		wrong = append(wrong, found.Errors()...)
		switch {
		case d == nil:
		case out[d.Name] != nil:
			return nil, fmt.Errorf("%s: dialect %q is described twice", name, d.Name)
		default:
			out[d.Name] = d
		}
	}
	if len(wrong) > 0 {
		return nil, wrong
	}
	return out, nil
}

// ReadDialect reads one dialect. An error lists all that is wrong with it.
func ReadDialect(data []byte) (*Dialect, error) {
	d, found := Check("dialect", data)
	if errors := found.Errors(); len(errors) > 0 {
		return nil, errors
	}
	return d, nil
}

// Mine reports whether a file is a dialect, by its format line.
func Mine(data []byte) bool {
	return strings.HasPrefix(yamldoc.FormatOf(data), "verimorph-dialect/")
}

// Check reads a dialect file and finds what is wrong with it, and what is doubtful: patterns with groups that nobody reads, and what a change will not
// be able to do. The dialect is nil when it cannot be used.
func Check(file string, data []byte) (*Dialect, yamldoc.Findings) {
	root, broken := yamldoc.Parse(file, data, "begin with: format: "+DialectFormat)
	if broken != nil {
		return nil, yamldoc.Findings{*broken}
	}
	c := &checker{Reader: yamldoc.Reader{File: file}, root: root, d: &Dialect{Installs: BySlots, text: string(data)}}
	c.Struct(root, "a dialect", c.d)
	c.d.byLine()
	if len(c.Found) == 0 { // what was not read cannot be checked
		c.head()
		c.modes()
		c.portrait()
		c.verbs()
		c.parts()
		c.values()
		c.copies()
		c.units()
		c.children()
		c.services()
	}
	c.Found.Sort()
	if len(c.Found.Errors()) > 0 {
		return nil, c.Found
	}
	c.d.known = &known{c.d, c.d.workedOut()}
	return c.d, c.Found
}

// byLine lets those patterns look at each line of an answer that say what it means: nobody writes one that is to fit all of an answer, and one
// that fits nothing because a line comes before it would take a "no" for a yes.
func (d *Dialect) byLine() {
	steps := func(steps []Step) {
		for i := range steps {
			steps[i].Success = steps[i].Success.ByLine()
			if f := steps[i].For; f != nil {
				f.Match = f.Match.ByLine()
			}
		}
	}
	d.Session.Probe.Match = d.Session.Probe.Match.ByLine()
	for i := range d.Refusals {
		d.Refusals[i].Match = d.Refusals[i].Match.ByLine()
	}
	for name, q := range d.Verbs {
		q.Success = q.Success.ByLine()
		if j := q.Job; j != nil {
			j.Done, j.Failed, j.Running, j.Progress = j.Done.ByLine(), j.Failed.ByLine(), j.Running.ByLine(), j.Progress.ByLine()
		}
		steps(q.Steps)
		d.Verbs[name] = q
	}
	for i := range d.Backup {
		if r := d.Backup[i].Restore; r != nil {
			steps(r.Before)
			steps(r.After)
			steps(r.Abort)
			steps(r.Confirm)
		}
	}
	for i := range d.Modes {
		for _, st := range []*Step{d.Modes[i].Enter, d.Modes[i].Leave} {
			if st != nil {
				st.Success = st.Success.ByLine()
			}
		}
	}
}

type checker struct {
	yamldoc.Reader
	root *yamldoc.Node
	d    *Dialect
}

// wrong notes an error at a path of fields and list indices, or at the deepest node of it that there is.
func (c *checker) wrong(path []any, hint, format string, args ...any) {
	c.Fail(yamldoc.Find(c.root, path...), hint, format, args...)
}

func (c *checker) doubt(path []any, hint, format string, args ...any) {
	c.wrong(path, hint, format, args...)
	c.Found[len(c.Found)-1].Doubt = true
}

func under(path ...any) []any { return path }

func (c *checker) head() {
	d := c.d
	if d.Format != DialectFormat && d.Format != dialectFormat1 {
		c.wrong(under("format"), "", "format %q is neither %s nor %s", d.Format, DialectFormat, dialectFormat1)
	}
	if d.Name == "" {
		c.wrong(nil, "add dialect: NAME", "dialect: a name is missing")
	}
	if d.Session.Probe.Send != "" && d.Session.Probe.Match.Regexp == nil {
		c.wrong(under("session", "probe"), "", "session: probe needs a match, which its answer fits")
	}
	if firmwareVerbs[d.Installs] == nil {
		c.wrong(under("installs"), "", "installs: %q is none of %s, %s and %s", d.Installs, BySlots, InPlace, FromFiles)
	}
	if d.Verbs["drain"].given() != (d.Drained.Regexp != nil) || d.Verbs["drain"].given() != d.Verbs["undrain"].given() {
		c.wrong(under("verbs", "drain"), "", "verbs: drain, undrain and the pattern drained belong together")
	}
	switch menu := d.Console.Menu; {
	case menu != nil && (d.Console.Loader.Regexp == nil || d.Console.StartOld != ""):
		c.wrong(under("console", "menu"), "", "console: menu goes with loader, how it is known, and takes the place of load-slot")
	case menu != nil && (!slices.Contains(groupsOf(menu.Current), "slot") || menu.Next == "" || menu.Start == ""):
		c.wrong(under("console", "menu"), "", "console: menu needs current, with a group slot, and the keys next and start")
	case menu == nil && (d.Console.Loader.Regexp == nil) != (d.Console.StartOld == ""):
		c.wrong(under("console"), "", "console: loader and load-slot belong together")
	}
	if len(d.Components) > 0 && !d.Verbs["update-component"].given() {
		c.wrong(under("components"), "", "components: need the verb update-component")
	}
	if d.Medium != "" && (d.Files.Images != "" || d.Files.Send != "") {
		c.wrong(under("files"), "give the one or the other", "files: a device whose files come on a medium has no folder that they are sent to")
	}
	if by := d.Files.By; by != "" && by != bySftp && by != byScp && by != byGnoi {
		c.wrong(under("files", "by"), "use one of: sftp, scp, gnoi", "files: by %q is not known", by)
	}
	for name, folder := range map[string]string{"images": d.Files.Images, "send": d.Files.Send} {
		if folder != "" && !safePath.MatchString(folder) {
			c.wrong(under("files", name), "", "files: %s: %q cannot be part of a command", name, folder)
		}
	}
	for i, r := range d.Refusals {
		if !slices.Contains(refusalKinds, r.Kind) && r.Kind != device.SignInRefused {
			c.wrong(under("refusals", i, "kind"), "use one of: refused, no-room, not-ready, sign-in-refused", "refusals: kind %q is not known", r.Kind)
		}
	}
	if len(d.Refusals) == 0 && d.Name != jumpHost && d.speaks() {
		c.doubt(nil, "say how the device says no", "refusals: are missing; what the device refuses is not told from what it does")
	}
}

// refusalKinds are the kinds that a device's "no" can have.
var refusalKinds = []device.ErrorKind{device.Refused, device.NoRoom, device.NotReady}

func (c *checker) modes() {
	d := c.d
	switch {
	case len(d.Modes) == 0 && d.Prompt.Regexp == nil && !d.speaks(): // it has no command line
	case len(d.Modes) == 0 && d.Prompt.Regexp == nil:
		c.wrong(nil, "add prompt: PATTERN", "prompt: is missing; without it nobody knows when the device has finished")
	case len(d.Modes) > 0 && (d.Prompt.Regexp != nil || d.Raise.Send != ""):
		c.wrong(under("modes"), "give the one or the other", "modes: take the place of prompt and raise")
	}
	for i, m := range d.modes() {
		if p := m.Prompt; p.Regexp != nil && p.MatchString("") {
			path := under("modes", i, "prompt")
			if len(d.Modes) == 0 {
				path = under("prompt")
			}
			c.wrong(path, "a prompt is the whole last line, such as 'NAME> '", "prompt: %q fits an empty line", p.String())
		}
	}
	for i, m := range d.Modes {
		wrong := func(hint, format string, args ...any) {
			c.wrong(under("modes", i), hint, "modes: %q: %s", m.Name, fmt.Sprintf(format, args...))
		}
		switch {
		case m.Name == "" || modeNamed(d.Modes[:i], m.Name) != nil:
			wrong("", "each mode has a name of its own")
		case m.Prompt.Regexp == nil:
			wrong("", "a prompt is missing")
		case i == 0 && (m.From != "" || m.Enter != nil || m.Leave != nil):
			wrong("", "the first mode is that after sign-in; it is neither entered nor left")
		case i > 0 && (m.Enter == nil || m.Leave == nil):
			wrong("", "it needs enter and leave")
		case m.From != "" && modeNamed(d.Modes[:i], m.From) == nil:
			wrong("", "from %q is none of the modes before it", m.From)
		}
		for name, st := range map[string]*Step{"enter": m.Enter, "leave": m.Leave} {
			if st != nil {
				c.steps(under("modes", i, name), "modes: "+m.Name, []Step{*st}, nil)
			}
		}
	}
}

// query finds what is wrong with what is said; params are the placeholders that it may use.
func (c *checker) query(path []any, what string, q *Query, params []string) {
	c.protocol(path, what, q)
	switch {
	case q.Mode != "" && modeNamed(c.d.modes(), q.Mode) == nil:
		var names []string
		for _, m := range c.d.modes() {
			names = append(names, m.Name)
		}
		c.wrong(append(path, "mode"), "", "%s: there is no mode %q%s", what, q.Mode, near.Hint(q.Mode, names))
	case len(q.Steps) > 0 && (q.Send != "" || q.Ask.Regexp != nil || len(q.Expect) > 0 || q.Until.Regexp != nil || q.Ends):
		c.wrong(append(path, "steps"), "", "%s: steps take the place of send, ask, expect, until and ends", what)
	}
	c.steps(path, what, q.steps(), params)
}

func (c *checker) steps(path []any, what string, steps []Step, params []string) {
	for i, st := range steps {
		path := slices.Clone(path)
		if list := yamldoc.Find(c.root, append(path, "steps")...); list != yamldoc.Find(c.root, path...) {
			path = append(path, "steps", i)
		}
		if f := st.For; f != nil {
			path := append(slices.Clone(path), "for")
			c.placeholders(append(slices.Clone(path), "send"), what, f.Send, params)
			for k, e := range f.Except {
				c.placeholders(append(slices.Clone(path), "except", k), what, e, params)
			}
			if f.Send == "" || !slices.Contains(groupsOf(f.Match), "each") {
				c.wrong(path, "", "%s: for needs send, which lists the things, and a match with a group each", what)
			}
			params = append(slices.Clone(params), "each")
		}
		c.placeholders(append(slices.Clone(path), "send"), what, st.Send, params)
		for k, e := range st.Expect {
			path := append(slices.Clone(path), "expect", k)
			if !e.literal {
				c.placeholders(path, what, e.Answer, params)
			}
			switch {
			case e.Ask.Regexp == nil:
				c.wrong(path, "", "%s: expect: ask is missing, how the device asks", what)
			case e.Secret != "" && e.Secret != SecretPrivileged && e.Secret != SecretNew:
				c.wrong(path, "", "%s: expect: there is no secret %q; there are: %s, %s", what, e.Secret, SecretPrivileged, SecretNew)
			case e.Secret != "" && e.Answer != "":
				c.wrong(path, "", "%s: expect: there is an answer and a secret; give one of them", what)
			case e.Refusal != "" && !slices.Contains(refusalKinds, e.Refusal):
				c.wrong(path, "", "%s: expect: refusal %q is none of refused, no-room, not-ready", what, e.Refusal)
			}
		}
	}
}

func (c *checker) placeholders(path []any, what, text string, params []string) {
	if slices.ContainsFunc(c.d.modes(), func(m Mode) bool { return slices.Contains(groupsOf(m.Prompt), "name") }) {
		params = append(slices.Clone(params), "name")
	}
	for _, m := range placeholder.FindAllStringSubmatch(text, -1) {
		if !slices.Contains(params, m[1]) {
			hint := "nothing is filled in here"
			if len(params) > 0 {
				hint = "there is: {" + strings.Join(params, "}, {") + "}"
			}
			c.wrong(path, hint, "%s: there is no {%s} here", what, m[1])
		}
	}
}

// portraitFields are what a portrait is put together of, and its tables with their groups, the first of which each row has.
var (
	portraitFields = []string{"name", "maker", "model", "serial", "version", "generation", "slot", "next", "second", "uptime", "started", "services", "unsaved", "total", "free", "memory", "platform", "file-system", "work", "service", "role", "mate", "ensemble", "sync", "seats"}
	portraitTables = map[string][]string{"slots": {"slot", "version", "state", "description", "size", "written"}, "files": {"file", "size", "unit"}, "components": {"component", "version", "unit"},
		"parts": {"part", "state"}, "variables": {"variable", "value"}, "licences": {"licence"}, "storages": {"storage", "free", "total"},
		"units":    {"unit", "role", "model", "serial", "version", "next", "holds", "state", "free", "total"},
		"children": {"child", "model", "serial", "version", "next", "place", "group", "state"}}
)

func (c *checker) portrait() {
	if len(c.d.Portrait) == 0 {
		c.wrong(nil, "", "portrait: is missing")
		return
	}
	said := map[string]bool{}
	for i := range c.d.Portrait {
		q := &c.d.Portrait[i]
		path := under("portrait", i)
		what := "portrait: " + q.says()
		c.query(path, what, q, nil)
		c.groups(append(path, "fields"), what, q.Fields, portraitFields)
		for _, g := range groupsOf(q.Fields) {
			said[g] = true
		}
		if q.Table != nil {
			c.layout(append(path, "table"), what, q)
			for g := range q.Table.Columns {
				said[g] = said[g] || q.Rows == ""
			}
			continue
		}
		switch table, known := portraitTables[q.Rows]; {
		case q.Rows == "" && q.Match.Regexp != nil:
			c.wrong(append(path, "match"), "name the table in rows", "%s: match without rows", what)
		case q.Rows == "":
		case !known:
			c.wrong(append(path, "rows"), "", "%s: there is no table %q%s", what, q.Rows, near.Hint(q.Rows, slices.Sorted(maps.Keys(portraitTables))))
		case !slices.Contains(groupsOf(q.Match), table[0]):
			c.wrong(append(path, "match"), "", "%s: match has no group %s, which each row of %s has", what, table[0], q.Rows)
		default:
			c.groups(append(path, "match"), what, q.Match, table)
		}
	}
	for _, needed := range []string{"model", "version"} {
		if !said[needed] && len(c.Found.Errors()) == 0 && c.d.Name != jumpHost {
			c.doubt(under("portrait"), "add a query with a group "+needed, "portrait: nothing gives the %s", needed)
		}
	}
}

// layout finds what is wrong with how an answer is laid out.
func (c *checker) layout(path []any, what string, q *Query) {
	l := q.Table
	groups := append(slices.Sorted(maps.Keys(l.Columns)), groupsOf(l.Begin)...)
	known := portraitFields
	if q.Rows != "" {
		known = portraitTables[q.Rows]
	}
	switch {
	case q.Rows != "" && known == nil:
		c.wrong(path, "", "%s: there is no table %q%s", what, q.Rows, near.Hint(q.Rows, slices.Sorted(maps.Keys(portraitTables))))
	case q.Match.Regexp != nil || q.Fields.Regexp != nil:
		c.wrong(path, "", "%s: table takes the place of match and fields", what)
	case l.Check() != nil:
		c.wrong(append(path, "by"), "", "%s: table: %s", what, l.Check())
	case q.Rows != "" && !slices.Contains(groups, known[0]):
		c.wrong(append(path, "columns"), "", "%s: table: there is no column for %s, which each row of %s has", what, known[0], q.Rows)
	}
	for _, g := range groups {
		if !slices.Contains(known, g) {
			c.doubt(append(path, "columns"), "known here: "+strings.Join(known, ", "), "%s: nobody reads the group %q", what, g)
		}
	}
	for g := range l.Only {
		if !slices.Contains(groups, g) {
			c.wrong(append(path, "only"), "", "%s: table: only: there is no group %q", what, g)
		}
	}
}

// jumpHost is the dialect of servers that only pass connections on.
const jumpHost = "jump-host"

func groupsOf(p device.Pattern) (out []string) {
	if p.Regexp == nil {
		return nil
	}
	for _, g := range p.SubexpNames() {
		if g != "" {
			out = append(out, g)
		}
	}
	return out
}

// groups finds groups of a pattern that nobody reads.
func (c *checker) groups(path []any, what string, p device.Pattern, known []string) {
	for _, g := range groupsOf(p) {
		if !slices.Contains(known, g) {
			c.doubt(path, "known here: "+strings.Join(known, ", "), "%s: nobody reads the group %q", what, g)
		}
	}
}

func (c *checker) verbs() {
	d := c.d
	for _, name := range slices.Sorted(maps.Keys(d.Verbs)) {
		q := d.Verbs[name]
		path := under("verbs", name)
		params, ok := verbParams[name]
		if !ok {
			c.wrong(path, "", "verbs: %s is not a verb%s", name, near.Hint(name, slices.Sorted(maps.Keys(verbParams))))
			continue
		}
		if !q.given() {
			c.wrong(path, "add send or steps", "verbs: %s: says nothing", name)
			continue
		}
		c.query(path, "verbs: "+name, &q, params)
		c.groups(append(path, "progress"), "verbs: "+name, q.Progress, []string{"percent", "done", "total"})
		if q.Job != nil {
			c.job(append(path, "job"), "verbs: "+name, &q)
		}
	}
	if q := d.Verbs["checksum"]; q.given() && !slices.ContainsFunc(groupsOf(q.Fields), func(g string) bool { return slices.Contains(device.Algorithms, g) }) {
		c.wrong(under("verbs", "checksum", "fields"), "", "verbs: checksum: fields needs a group %s", strings.Join(device.Algorithms, ", "))
	}
	if q := d.Verbs["add-licence"]; q.given() && (q.Ask.Regexp == nil || q.Answer != "") {
		c.wrong(under("verbs", "add-licence"), "", "verbs: add-licence needs an ask, where the key is typed in, and no answer")
	}
	if d.Installs == FromFiles && !c.versionsOfSlots() {
		c.wrong(under("portrait"), "add rows: slots with the groups slot and version", "installs: files: nothing gives the images that can be started, with their versions")
	}
	if d.Installs == BySlots && d.Verbs["choose-slot"].given() && d.SlotStates["good"].Regexp == nil {
		c.doubt(under("slot-states"), "add slot-states: {good: PATTERN}", "slot-states: without good no installation is known to be whole, so none is started")
	}
	if missing := d.lacksForFirmware(); len(missing) > 0 && d.Name != jumpHost {
		c.doubt(under("verbs"), "add them, if the device can do that", "verbs: firmware of such devices cannot be changed without %s", strings.Join(missing, ", "))
	}
	for i := range d.Readings {
		if err := d.Readings[i].Check(); err != nil {
			c.wrong(under("readings", i), "", "readings: %s", err)
		}
	}
}

// versionsOfSlots reports whether the portrait tells which version each slot holds.
func (c *checker) versionsOfSlots() bool {
	return slices.ContainsFunc(c.d.Portrait, func(q Query) bool {
		return q.Rows == "slots" && slices.Contains(q.groups(), "version")
	})
}

// job finds what is wrong with how a job is asked for.
func (c *checker) job(path []any, what string, q *Query) {
	j := q.Job
	c.query(path, what, &Query{Send: j.Send, Mode: j.Mode}, []string{"job"})
	switch {
	case !strings.Contains(j.Send, "{job}"):
		c.wrong(append(path, "send"), "", "%s: job: the command does not say {job}", what)
	case !slices.Contains(groupsOf(q.Fields), "job"):
		c.wrong(path, "", "%s: job: fields has no group job, the number that the device gives", what)
	case j.Done.Regexp == nil || j.Failed.Regexp == nil:
		c.wrong(path, "", "%s: job: done and failed are needed", what)
	case j.Running.Regexp == nil && j.Progress.Regexp == nil:
		c.wrong(path, "", "%s: job: running or progress is needed, how a job that goes on is told", what)
	}
	c.groups(append(path, "progress"), what, j.Progress, []string{"percent", "done", "total"})
	c.groups(append(path, "failed"), what, j.Failed, []string{"message"})
}

// values finds values of what no pattern has a group for.
func (c *checker) values() {
	var groups []string
	for _, q := range c.d.Portrait {
		groups = append(groups, q.groups()...)
	}
	for _, name := range slices.Sorted(maps.Keys(c.d.Values)) {
		v := c.d.Values[name]
		if err := v.Check(); err != nil {
			c.wrong(under("values", name), "", "values: %s: %s", name, err)
		}
		if !slices.Contains(groups, name) {
			c.doubt(under("values", name), "", "values: no pattern of the portrait has a group %s%s", name, near.Hint(name, groups))
		}
	}
}

// parts finds what is wrong with the parts of a backup.
func (c *checker) parts() {
	d := c.d
	seen, files, roles := map[string]bool{}, map[string]bool{}, map[string]bool{}
	for i := range d.Backup {
		p := &d.Backup[i]
		wrong := func(format string, args ...any) {
			c.wrong(under("backup", i), "", "backup: part %q: %s", p.Name, fmt.Sprintf(format, args...))
		}
		if p.Path == "" {
			p.Path = p.File
		}
		switch {
		case p.Name == "" || seen[p.Name]:
			wrong("each part has a name of its own")
		case p.Title == "":
			wrong("a title is missing")
		case !slices.Contains(backup.Kinds, p.Kind):
			wrong("kind %q is none of %s", p.Kind, strings.Join(backup.Kinds, ", "))
		case !backup.SafeFile(p.File) || files[p.File]:
			wrong("file %q is no file name, or there twice", p.File)
		case !slices.Contains(fetchWays, p.By):
			wrong("by %q is none of %s", p.By, strings.Join(fetchWays, ", "))
		case (p.By == ByCLI || strings.HasPrefix(p.By, "push-")) && p.Send == "":
			wrong("by %s needs a command to send", p.By)
		case strings.HasPrefix(p.By, "push-") && !strings.Contains(p.Send, "{url}"):
			wrong("the command does not say {url}, where the device sends it")
		case p.Syntax != "" && !slices.Contains(config.Syntaxes, p.Syntax):
			wrong("syntax %q is not known", p.Syntax)
		case p.Mode != "" && modeNamed(d.modes(), p.Mode) == nil:
			wrong("there is no mode %q", p.Mode)
		case p.Role != "" && (p.Role != backup.Running && p.Role != backup.Saved || p.Kind != backup.Configuration):
			wrong("role %q is neither %s nor %s of a configuration", p.Role, backup.Running, backup.Saved)
		case p.role() != "" && roles[p.role()]:
			wrong("another part is the %s configuration already", p.role())
		}
		if r := p.Restore; r != nil {
			if r.Path == "" {
				r.Path = p.Path
			}
			switch {
			case !slices.Contains(putWays, r.By):
				wrong("restore: by %q is none of %s", r.By, strings.Join(putWays, ", "))
			case r.By == ByCLI && r.Each == nil && (r.Send == "" || r.Ask.Regexp == nil || r.End == ""):
				wrong("restore: by cli needs send, ask and end, or each")
			case r.Each != nil && (r.By != ByCLI || r.Send != ""):
				wrong("restore: each is for by cli, without send")
			case r.Each == nil && len(r.Before)+len(r.After)+len(r.Abort)+len(r.Confirm) > 0:
				wrong("restore: before, after, abort and confirm go with each")
			case strings.HasPrefix(r.By, "pull-") && !strings.Contains(r.Send, "{url}"):
				wrong("restore: the command does not say {url}, where the device fetches it")
			case r.Mode != "" && modeNamed(d.modes(), r.Mode) == nil:
				wrong("restore: there is no mode %q", r.Mode)
			}
		}
		if r := p.Restore; r != nil {
			for name, steps := range map[string][]Step{"before": r.Before, "after": r.After, "abort": r.Abort, "confirm": r.Confirm} {
				for k := range steps {
					c.steps(under("backup", i, "restore", name, k), "backup: "+p.Name+": "+name, steps[k:k+1], nil)
				}
			}
		}
		seen[p.Name], files[p.File], roles[p.role()] = true, true, true
	}
}

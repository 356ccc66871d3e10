package cli

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"verimorph/core/near"
	"verimorph/device"
)

// What can be said about the management protocols of a dialect without a device.

// tellers are the protocols by which devices say things by themselves over a connection.
var tellers = []string{device.ByNETCONF, device.ByRESTCONF, device.ByGNMI}

// services finds what is wrong with the management protocols.
func (c *checker) services() {
	for _, by := range slices.Sorted(maps.Keys(c.d.Services)) {
		s := c.d.Services[by]
		if !slices.Contains(device.Protocols, by) {
			c.wrong(under("services", by), "", "services: %s is no protocol%s", by, near.Hint(by, device.Protocols))
		} else if err := s.Check(by); err != nil {
			c.wrong(under("services", by), "", "services: %s: %s", by, err)
		}
	}
	for i, r := range c.d.Readings {
		c.protocol(under("readings", i), "readings: "+r.Name, &Query{By: r.By, Send: r.Send})
	}
	switch e := c.d.Events; {
	case e.By == "" && (e.Stream != "" || e.Trouble.Regexp != nil):
		c.wrong(under("events"), "add by: netconf, by: restconf or by: gnmi", "events: by is missing")
	case e.By != "" && !slices.Contains(tellers, e.By):
		c.wrong(under("events", "by"), "use one of: "+strings.Join(tellers, ", "), "events: by %q is not known", e.By)
	case e.By == device.ByGNMI && e.Stream == "":
		c.wrong(under("events"), "add stream: with the paths that are listened to, such as /interfaces", "events: by gnmi needs a stream")
	case e.By != "":
		c.protocol(under("events"), "events", &Query{By: e.By})
	}
	if c.d.Files.By == byGnoi {
		c.protocol(under("files"), "files", &Query{By: device.ByGNOI})
	}
}

// protocol finds what is wrong with by what something is said.
func (c *checker) protocol(path []any, what string, q *Query) {
	if !q.byProtocol() {
		return
	}
	_, offered := c.d.Services[q.By]
	switch {
	case !slices.Contains(device.Protocols, q.By):
		c.wrong(append(path, "by"), "use one of: cli, "+strings.Join(device.Protocols, ", "), "%s: by %q is not known", what, q.By)
	case !offered && q.By != device.ByNETCONF:
		c.wrong(append(path, "by"), fmt.Sprintf("add services: {%s: {}}", q.By), "%s: services does not say where %s is offered", what, q.By)
	case q.Mode != "" || q.Raised || q.Ask.Regexp != nil || len(q.Expect) > 0 || q.Until.Regexp != nil:
		c.wrong(path, "", "%s: by %s there are no modes and no questions", what, q.By)
	case slices.ContainsFunc(q.Steps, func(st Step) bool { return len(st.Expect) > 0 || st.For != nil || st.Key }):
		c.wrong(append(path, "steps"), "", "%s: by %s a step is only said", what, q.By)
	}
}

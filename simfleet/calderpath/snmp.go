package calderpath

import (
	"encoding/hex"
	"fmt"
	"time"

	"github.com/gosnmp/gosnmp"
)

// The SNMP side: the system, its ports and their neighbours, by the standard MIBs.

// objects are what the box tells over SNMP.
func (b *Box) objects() (out []gosnmp.SnmpPDU) {
	b.mu.Lock()
	defer b.mu.Unlock()
	add := func(oid string, kind gosnmp.Asn1BER, value any) {
		out = append(out, gosnmp.SnmpPDU{Name: "." + oid, Type: kind, Value: value})
	}
	text := func(oid, value string) { add(oid, gosnmp.OctetString, []byte(value)) }
	text("1.3.6.1.2.1.1.1.0", Maker+" "+b.st.Model+", "+b.version())
	add("1.3.6.1.2.1.1.3.0", gosnmp.TimeTicks, uint32(b.up()/(10*time.Millisecond)))
	text("1.3.6.1.2.1.1.5.0", b.spec.Name)
	if engine, err := hex.DecodeString(b.st.Engine); err == nil {
		text("1.3.6.1.6.3.10.2.1.1.0", string(engine))
	}
	names, up := b.ports()
	for i, name := range names {
		text(fmt.Sprintf("1.3.6.1.2.1.2.2.1.2.%d", i+1), name)
		add(fmt.Sprintf("1.3.6.1.2.1.2.2.1.8.%d", i+1), gosnmp.Integer, map[bool]int{true: 1, false: 2}[up[name]])
		if up[name] { // a neighbour is heard on a port that is up
			text(fmt.Sprintf("1.0.8802.1.1.2.1.4.1.1.9.0.%d.1", i+1), beside(name))
		}
	}
	text("1.3.6.1.2.1.47.1.1.1.1.10.1", b.version())
	text("1.3.6.1.2.1.47.1.1.1.1.11.1", b.st.Serial)
	text("1.3.6.1.2.1.47.1.1.1.1.13.1", b.st.Model)
	return out
}

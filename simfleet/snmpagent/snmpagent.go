// Package snmpagent is the SNMP side of simulated boxes: it answers get, get-next and get-bulk of version 2c (RFC 3416) over UDP, and nothing
// else. Whoever asks with another community gets no answer, as from a real agent.
package snmpagent

import (
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/gosnmp/gosnmp"
)

// An Agent answers at one address.
type Agent struct {
	// Community is what has to be said.
	Community func() string
	// Objects are what can be asked for, in any order.
	Objects func() []gosnmp.SnmpPDU
	// Answers reports whether it answers at all at the moment.
	Answers func() bool

	mu   sync.Mutex
	conn net.PacketConn
	done sync.WaitGroup
}

// mostBindings is how many objects an answer holds at most.
const mostBindings = 40

// Start opens the address, host:port.
func (a *Agent) Start(address string) error {
	conn, err := net.ListenPacket("udp", address)
	if err != nil {
		return err
	}
	a.mu.Lock()
	a.conn = conn
	a.mu.Unlock()
	a.done.Go(func() {
		buf := make([]byte, 64<<10)
		for {
			n, from, err := conn.ReadFrom(buf)
			if err != nil {
				return
			}
			if answer := a.answer(slices.Clone(buf[:n])); answer != nil {
				_, _ = conn.WriteTo(answer, from)
			}
		}
	})
	return nil
}

// Stop closes the address.
func (a *Agent) Stop() {
	a.mu.Lock()
	if a.conn != nil {
		_ = a.conn.Close()
	}
	a.mu.Unlock()
	a.done.Wait()
}

// answer is what is said to a packet; nil: nothing.
func (a *Agent) answer(packet []byte) []byte {
	reader := &gosnmp.GoSNMP{Version: gosnmp.Version2c}
	p, err := reader.SnmpDecodePacket(packet)
	if err != nil || p.Version != gosnmp.Version2c || p.Community != a.Community() || !a.Answers() {
		return nil
	}
	all := a.Objects()
	slices.SortFunc(all, func(x, y gosnmp.SnmpPDU) int { return compare(x.Name, y.Name) })
	out := &gosnmp.SnmpPacket{Version: gosnmp.Version2c, Community: p.Community, PDUType: gosnmp.GetResponse, RequestID: p.RequestID}
	switch p.PDUType {
	case gosnmp.GetRequest:
		for _, v := range p.Variables {
			out.Variables = append(out.Variables, exactly(all, v.Name))
		}
	case gosnmp.GetNextRequest:
		for _, v := range p.Variables {
			out.Variables = append(out.Variables, behind(all, v.Name))
		}
	case gosnmp.GetBulkRequest:
		out.Variables = bulk(all, p)
	default:
		return nil
	}
	data, err := out.MarshalMsg()
	if err != nil {
		return nil
	}
	return data
}

// exactly is one object; that it does not exist is said in its place.
func exactly(all []gosnmp.SnmpPDU, name string) gosnmp.SnmpPDU {
	if i, ok := slices.BinarySearchFunc(all, name, func(o gosnmp.SnmpPDU, name string) int { return compare(o.Name, name) }); ok {
		return all[i]
	}
	return gosnmp.SnmpPDU{Name: name, Type: gosnmp.NoSuchInstance}
}

// behind is the object behind a name.
func behind(all []gosnmp.SnmpPDU, name string) gosnmp.SnmpPDU {
	for _, o := range all {
		if compare(o.Name, name) > 0 {
			return o
		}
	}
	return gosnmp.SnmpPDU{Name: name, Type: gosnmp.EndOfMibView}
}

// bulk are the objects behind several names (RFC 3416, section 4.2.3).
func bulk(all []gosnmp.SnmpPDU, p *gosnmp.SnmpPacket) (out []gosnmp.SnmpPDU) {
	once := min(int(p.NonRepeaters), len(p.Variables))
	for _, v := range p.Variables[:once] {
		out = append(out, behind(all, v.Name))
	}
	at := slices.Clone(p.Variables[once:])
	for range p.MaxRepetitions {
		for i := range at {
			if len(out) == mostBindings {
				return out
			}
			at[i] = behind(all, at[i].Name)
			out = append(out, at[i])
		}
	}
	return out
}

// compare orders numbers of objects, part by part.
func compare(a, b string) int {
	return slices.Compare(parts(a), parts(b))
}

func parts(oid string) (out []uint64) {
	for p := range strings.SplitSeq(strings.Trim(oid, "."), ".") {
		n, _ := strconv.ParseUint(p, 10, 32)
		out = append(out, n)
	}
	return out
}

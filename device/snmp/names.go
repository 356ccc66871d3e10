package snmp

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"verimorph/core/near"
)

// An object is what is asked for: a name as it was said, and its number.
type object struct{ name, oid string }

// Names are the objects of the standard MIBs that can be asked for by name: system and interfaces (RFC 3418, RFC 2863), addresses and neighbours of the
// network layer (RFC 4293), parts (RFC 6933) and their sensors (RFC 3433), bridges (RFC 4188), memory and processors (RFC 2790), and neighbours (LLDP-MIB, IEEE 802.1AB).
var Names = map[string]string{
	"sysDescr": "1.3.6.1.2.1.1.1", "sysObjectID": "1.3.6.1.2.1.1.2", "sysUpTime": "1.3.6.1.2.1.1.3", "sysContact": "1.3.6.1.2.1.1.4", "sysName": "1.3.6.1.2.1.1.5", "sysLocation": "1.3.6.1.2.1.1.6",
	"ifNumber": "1.3.6.1.2.1.2.1", "ifIndex": "1.3.6.1.2.1.2.2.1.1", "ifDescr": "1.3.6.1.2.1.2.2.1.2", "ifType": "1.3.6.1.2.1.2.2.1.3", "ifMtu": "1.3.6.1.2.1.2.2.1.4", "ifSpeed": "1.3.6.1.2.1.2.2.1.5",
	"ifPhysAddress": "1.3.6.1.2.1.2.2.1.6", "ifAdminStatus": "1.3.6.1.2.1.2.2.1.7", "ifOperStatus": "1.3.6.1.2.1.2.2.1.8", "ifLastChange": "1.3.6.1.2.1.2.2.1.9",
	"ifInDiscards": "1.3.6.1.2.1.2.2.1.13", "ifInErrors": "1.3.6.1.2.1.2.2.1.14", "ifOutDiscards": "1.3.6.1.2.1.2.2.1.19", "ifOutErrors": "1.3.6.1.2.1.2.2.1.20",
	"ifName": "1.3.6.1.2.1.31.1.1.1.1", "ifHighSpeed": "1.3.6.1.2.1.31.1.1.1.15", "ifAlias": "1.3.6.1.2.1.31.1.1.1.18", "ifHCInOctets": "1.3.6.1.2.1.31.1.1.1.6", "ifHCOutOctets": "1.3.6.1.2.1.31.1.1.1.10",
	"ipNetToPhysicalPhysAddress": "1.3.6.1.2.1.4.35.1.4", "ipAddressIfIndex": "1.3.6.1.2.1.4.34.1.3", "inetCidrRouteNumber": "1.3.6.1.2.1.4.24.6",
	"entPhysicalDescr": "1.3.6.1.2.1.47.1.1.1.1.2", "entPhysicalClass": "1.3.6.1.2.1.47.1.1.1.1.5", "entPhysicalName": "1.3.6.1.2.1.47.1.1.1.1.7", "entPhysicalHardwareRev": "1.3.6.1.2.1.47.1.1.1.1.8",
	"entPhysicalFirmwareRev": "1.3.6.1.2.1.47.1.1.1.1.9", "entPhysicalSoftwareRev": "1.3.6.1.2.1.47.1.1.1.1.10", "entPhysicalSerialNum": "1.3.6.1.2.1.47.1.1.1.1.11", "entPhysicalMfgName": "1.3.6.1.2.1.47.1.1.1.1.12",
	"entPhysicalModelName": "1.3.6.1.2.1.47.1.1.1.1.13", "entPhySensorType": "1.3.6.1.2.1.99.1.1.1.1", "entPhySensorValue": "1.3.6.1.2.1.99.1.1.1.4", "entPhySensorOperStatus": "1.3.6.1.2.1.99.1.1.1.5",
	"dot1dBaseNumPorts": "1.3.6.1.2.1.17.1.2", "dot1dStpRootCost": "1.3.6.1.2.1.17.2.6", "dot1dStpDesignatedRoot": "1.3.6.1.2.1.17.2.5", "dot1dStpPortState": "1.3.6.1.2.1.17.2.15.1.3",
	"dot1dTpFdbAddress": "1.3.6.1.2.1.17.4.3.1.1", "dot1dTpFdbPort": "1.3.6.1.2.1.17.4.3.1.2", "dot1dTpFdbStatus": "1.3.6.1.2.1.17.4.3.1.3",
	"lldpLocSysName": "1.0.8802.1.1.2.1.3.3", "lldpLocPortId": "1.0.8802.1.1.2.1.3.7.1.3", "lldpRemChassisId": "1.0.8802.1.1.2.1.4.1.1.5", "lldpRemPortId": "1.0.8802.1.1.2.1.4.1.1.7",
	"lldpRemPortDesc": "1.0.8802.1.1.2.1.4.1.1.8", "lldpRemSysName": "1.0.8802.1.1.2.1.4.1.1.9", "lldpRemSysDesc": "1.0.8802.1.1.2.1.4.1.1.10",
	"hrSystemUptime": "1.3.6.1.2.1.25.1.1", "hrMemorySize": "1.3.6.1.2.1.25.2.2", "hrStorageDescr": "1.3.6.1.2.1.25.2.3.1.3", "hrStorageAllocationUnits": "1.3.6.1.2.1.25.2.3.1.4", "hrStorageSize": "1.3.6.1.2.1.25.2.3.1.5",
	"hrStorageUsed": "1.3.6.1.2.1.25.2.3.1.6", "hrProcessorLoad": "1.3.6.1.2.1.25.3.3.1.2",
}

// A line of these tables is a MIB, or a part of one, however long that makes it.

// words are the names of enumerated values, from 1 on.
var words = map[string][]string{
	"ifAdminStatus": {"up", "down", "testing"}, "ifOperStatus": {"up", "down", "testing", "unknown", "dormant", "notPresent", "lowerLayerDown"},
	"entPhysicalClass": {"other", "unknown", "chassis", "backplane", "container", "powerSupply", "fan", "sensor", "module", "port", "stack", "cpu",
		"energyObject", "battery", "storageDrive"},
	"entPhySensorType": {"other", "unknown", "voltsAC", "voltsDC", "amperes", "watts", "hertz", "celsius", "percentRH", "rpm", "cmm",
		"truthvalue"}, "entPhySensorOperStatus": {"ok", "unavailable", "nonoperational"},
	"dot1dStpPortState": {"disabled", "blocking", "listening", "learning", "forwarding", "broken"}, "dot1dTpFdbStatus": {"other", "invalid",
		"learned", "self", "mgmt"},
}

// numbered is a number as it may be said.
var numbered = regexp.MustCompile(`^\.?[0-2](\.[0-9]{1,10})+$`)

// find finds what is meant by a name with an instance behind it, or by a number.
func find(text string) (object, error) {
	if len(text) < 1000 && numbered.MatchString(text) {
		return object{text, "." + strings.TrimPrefix(text, ".")}, nil
	}
	name, instance, dotted := strings.Cut(text, ".")
	oid := Names[name]
	switch {
	case oid == "":
		return object{}, fmt.Errorf("there is no object called %q here%s; say its number", name, near.Hint(name, slices.Sorted(maps.Keys(Names))))
	case dotted && !numbered.MatchString("1.1."+instance):
		return object{}, fmt.Errorf("%q is no instance of %s", instance, name)
	case dotted:
		return object{text, "." + oid + "." + instance}, nil
	}
	return object{text, "." + oid}, nil
}

// known are the names by their numbers, the longest number first.
var known = func() (out []object) {
	for name, oid := range Names {
		out = append(out, object{name, oid})
	}
	slices.SortFunc(out, func(a, b object) int { return len(b.oid) - len(a.oid) })
	return out
}()

// nameOf is the name of a number with its instance; the number itself where it has none.
func nameOf(oid string) string {
	oid = strings.TrimPrefix(oid, ".")
	for _, k := range known {
		if rest, ok := strings.CutPrefix(oid, k.oid+"."); ok {
			return k.name + "." + rest
		}
	}
	return oid
}

func bare(name string) string {
	name, _, _ = strings.Cut(name, ".")
	return name
}

// enumerated is the name of a value; "" where it has none.
func enumerated(name string, n int64) string {
	if w := words[bare(name)]; n > 0 && n <= int64(len(w)) {
		return w[n-1]
	}
	return ""
}

// isAddress reports whether the octets of an object are a hardware address.
func isAddress(name string) bool {
	return slices.Contains([]string{"ifPhysAddress", "ipNetToPhysicalPhysAddress", "dot1dTpFdbAddress"}, bare(name))
}

package calderpath

import (
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"verimorph/simfleet/box"
	"verimorph/simfleet/firmware"
)

// A V1 goes on as a V2 when it starts a package of that platform, on the same virtual machine: with another serial, other host keys, another SNMP engine, and
// other names of its ports. It goes back in the same way.

const (
	firstPlatform  = "V1"
	secondPlatform = "V2"
	leastMemory    = 2 << 30 // bytes that the second platform needs
)

// renamed are the ports of the first platform by their names on the second.
var renamed = [][2]string{{"port0", "lane-1"}, {"port1", "lane-2"}, {"port2", "lane-3"}, {"port3", "lane-4"}}

// modelOf is the model that a package is for; "" when it is not whole.
func (b *Box) modelOf(name string) string {
	f, err := os.Open(filepath.Join(b.packages(), name))
	if err != nil {
		return ""
	}
	defer f.Close()
	h, err := firmware.Read(f)
	if err != nil || len(h.Models) == 0 {
		return ""
	}
	return h.Models[0]
}

// mayBecome reports whether the box takes packages of another platform: only a new enough release of the first one hands its configuration over, and only on
// a machine that is large enough. The caller holds the lock.
func (b *Box) mayBecome(model string) bool {
	switch {
	case model == secondPlatform && b.st.Model == firstPlatform:
		return b.memory() >= leastMemory && (strings.HasPrefix(b.version(), "7.4.") && b.version() >= "7.4.2")
	case model == firstPlatform && b.st.Model == secondPlatform:
		return b.spec.Model == firstPlatform // it was one
	}
	return false
}

// becomes turns the box into another platform. The caller holds the lock.
func (b *Box) becomes(model string) {
	if model == "" || model == b.st.Model {
		return
	}
	b.st.Model = model
	b.st.HostKey, b.st.Before = b.st.Before, b.st.HostKey
	if b.st.HostKey == "" {
		b.st.HostKey = box.NewHostKey()
	}
	b.st.Serial = b.spec.Serial
	if model == secondPlatform && !b.st.Faults.Hit(KeepsSerial) {
		b.st.Serial = "V2-" + strings.ToUpper(hex.EncodeToString([]byte(b.spec.Serial)))
		if b.st.Faults.Hit(LosesName) {
			b.st.Serial = "unset"
		}
	}
	b.st.Engine = engineOf(b.st.Serial)
	b.st.Licences = b.spec.Licences
	if b.st.Faults.Hit(LosesLicence) {
		b.st.Licences = nil
	}
	for _, p := range renamed {
		from, to := p[0], p[1]
		if model == firstPlatform {
			from, to = to, from
		}
		b.st.Config = strings.ReplaceAll(b.st.Config, from, to)
	}
}

func (b *Box) memory() int64 {
	if b.spec.Memory == 0 {
		return 4 << 30
	}
	return b.spec.Memory
}

func (b *Box) hostKind() string {
	if b.spec.HostKind == "" {
		return "host-b"
	}
	return b.spec.HostKind
}

// engineOf is the identifier of the SNMP engine of a box, after its serial (RFC 3411 section 5).
func engineOf(serial string) string { return fmt.Sprintf("8000c35d04%x", serial) }

// beside is the neighbour that is heard on a port, whatever the platform calls it.
func beside(port string) string {
	for _, p := range renamed {
		if p[1] == port {
			port = p[0]
		}
	}
	return "beside-" + port
}

// PowerOffAndOn takes the power away and gives it back.
func (b *Box) PowerOffAndOn() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.restart()
}

package ready

// In a change of several devices checks are told apart by the name of the device, so that what is accepted of one is not accepted of another.

// MemberName is the name of a check of one device in a change of several.
func MemberName(check, device string) string { return check + " " + device }

// OfMember are checks of one device in a change of several.
func OfMember(checks []Check, device string) (out []Check) {
	for _, c := range checks {
		c.Name, c.Title, c.Member = MemberName(c.Name, device), device+": "+c.Title, device
		out = append(out, c)
	}
	return out
}

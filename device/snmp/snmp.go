// Package snmp reads from devices over SNMP: version 3 with the user-based security model (RFC 3411, RFC 3414), or version 2c with a community
// (RFC 3416, RFC 3584). It only reads; nothing is ever set.
//
// # Calls
//
// [Client.Call] takes what a dialect file says, with the names of the standard MIBs ([Names]) or with numbers:
//
//	get sysDescr.0 sysUpTime.0
//	walk entPhysicalName
//	table ifDescr ifOperStatus
//
// The answer is JSON: of get and walk {"values": [{"name", "oid", "value"}]}, of table {"rows": [{"index", "ifDescr", "ifOperStatus"}]}.
// Values of enumerated types are their names, times are whole seconds, octets that are no text are written in hexadecimal.
//
// # Errors
//
// They are *device.Error: no answer is [device.Silent], an unknown user, a wrong password or a protection that the device does not take
// [device.SignInRefused], an object that it does not have [device.Refused].
package snmp

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math/big"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/gosnmp/gosnmp"

	"verimorph/device"
)

// How long one request waits for its answer, and how often it is sent again: reading twice does no harm.
const (
	requestWaits = 2 * time.Second
	sentAgain    = 2
)

// mostValues bounds an answer.
const mostValues = 20_000

// A Client asks one device.
type Client struct {
	g       *gosnmp.GoSNMP
	address string
}

// Dial makes a client. Nothing is sent before the first call.
func Dial(t *device.Target, s device.Service) (*Client, error) {
	address := t.Endpoint(device.BySNMP, s)
	host, text, err := net.SplitHostPort(address)
	port, bad := strconv.ParseUint(text, 10, 16)
	if err != nil || bad != nil {
		return nil, device.Fail(device.Unreachable, address, "speak SNMP", "that is no host and port")
	}
	g := &gosnmp.GoSNMP{Target: host, Port: uint16(port), Transport: "udp", Timeout: requestWaits, Retries: sentAgain, MaxOids: gosnmp.MaxOids,
		MaxRepetitions: 20, Version: gosnmp.Version3}
	if s.Version == "2c" {
		g.Version = gosnmp.Version2c
	}
	in := slices.IndexFunc(t.SNMP, func(u device.SNMPUser) bool { return (u.Community != "") == (g.Version == gosnmp.Version2c) })
	if in < 0 {
		kind := map[bool]string{true: "snmp-community", false: "snmp-v3"}[g.Version == gosnmp.Version2c]
		return nil, device.Fail(device.SignInRefused, address, "speak SNMP", "no credential of kind %s is known; add one with: verimorph credential add", kind)
	}
	if err := secure(g, &t.SNMP[in]); err != nil {
		return nil, device.Fail(device.SignInRefused, address, "speak SNMP", "%s", err)
	}
	if err := g.Connect(); err != nil {
		return nil, device.Fail(device.Unreachable, address, "speak SNMP", "%s", err)
	}
	if t.Noted != nil {
		t.Noted(t.SNMP[in].ID)
	}
	return &Client{g: g, address: address}, nil
}

// Protections by the names that people give them, without dashes.
var (
	authentication = map[string]gosnmp.SnmpV3AuthProtocol{"MD5": gosnmp.MD5, "SHA": gosnmp.SHA, "SHA1": gosnmp.SHA, "SHA224": gosnmp.SHA224,
		"SHA256": gosnmp.SHA256, "SHA384": gosnmp.SHA384, "SHA512": gosnmp.SHA512}
	privacy = map[string]gosnmp.SnmpV3PrivProtocol{"DES": gosnmp.DES, "AES": gosnmp.AES, "AES128": gosnmp.AES, "AES192": gosnmp.AES192,
		"AES256": gosnmp.AES256}
)

// secure sets how requests are signed and encrypted.
func secure(g *gosnmp.GoSNMP, u *device.SNMPUser) error {
	if g.Version == gosnmp.Version2c {
		g.Community = u.Community
		return nil
	}
	p, flags, err := parameters(u)
	if err != nil {
		return err
	}
	g.SecurityModel, g.MsgFlags, g.SecurityParameters = gosnmp.UserSecurityModel, flags, p
	return nil
}

// parameters are those of a user in the user-based security model.
func parameters(u *device.SNMPUser) (*gosnmp.UsmSecurityParameters, gosnmp.SnmpV3MsgFlags, error) {
	plain := func(s string) string {
		return strings.NewReplacer("-", "", "_", "", " ", "").Replace(strings.ToUpper(s))
	}
	p := &gosnmp.UsmSecurityParameters{UserName: u.User, AuthenticationProtocol: gosnmp.NoAuth, PrivacyProtocol: gosnmp.NoPriv}
	flags := gosnmp.NoAuthNoPriv
	if u.AuthPassword != "" {
		a, ok := authentication[plain(u.AuthProtocol)]
		if !ok {
			return nil, flags, fmt.Errorf("authentication %q is not known; known: %s", u.AuthProtocol, strings.Join(slices.Sorted(maps.Keys(authentication)), ", "))
		}
		p.AuthenticationProtocol, p.AuthenticationPassphrase, flags = a, u.AuthPassword, gosnmp.AuthNoPriv
	}
	if u.PrivPassword != "" {
		v, ok := privacy[plain(u.PrivProtocol)]
		if !ok {
			return nil, flags, fmt.Errorf("privacy %q is not known; known: %s", u.PrivProtocol, strings.Join(slices.Sorted(maps.Keys(privacy)), ", "))
		}
		p.PrivacyProtocol, p.PrivacyPassphrase, flags = v, u.PrivPassword, gosnmp.AuthPriv
	}
	return p, flags, nil
}

// Close implements device.Caller.
func (c *Client) Close() { _ = c.g.Close() }

// Call implements device.Caller.
func (c *Client) Call(ctx context.Context, what string) (string, error) {
	words := strings.Fields(what)
	if len(words) < 2 {
		return "", device.Fail(device.NotUnderstood, c.address, what, "say get, walk or table, and objects")
	}
	var objects []object
	for _, w := range words[1:] {
		o, err := find(w)
		if err != nil {
			return "", device.Fail(device.NotUnderstood, c.address, what, "%s", err)
		}
		objects = append(objects, o)
	}
	c.g.Context = ctx
	var answer any
	var err error
	switch words[0] {
	case "get":
		answer, err = c.get(objects)
	case "walk":
		answer, err = c.walkAll(objects)
	case "table":
		answer, err = c.table(objects)
	default:
		return "", device.Fail(device.NotUnderstood, c.address, what, "SNMP has get, walk and table here, not %q", words[0])
	}
	if err != nil {
		return "", c.failed(ctx, err, what)
	}
	data, err := json.MarshalIndent(answer, "", "  ")
	if err != nil {
		return "", device.Fail(device.NotUnderstood, c.address, what, "%s", err)
	}
	return string(data) + "\n", nil
}

// failed is an error as one of the device.
func (c *Client) failed(ctx context.Context, err error, doing string) error {
	if device.KindOf(err) != "" {
		return err
	}
	refusedBy := []error{gosnmp.ErrUnknownUsername, gosnmp.ErrWrongDigest, gosnmp.ErrDecryption, gosnmp.ErrUnknownSecurityLevel, gosnmp.ErrUnknownSecurityModels}
	refused := slices.ContainsFunc(refusedBy, func(r error) bool { return errors.Is(err, r) }) || strings.Contains(err.Error(), "packet is not authentic")
	var late net.Error
	switch {
	case refused:
		return device.Fail(device.SignInRefused, c.address, doing, "the device does not take this user, its password or its protection: %s", err)
	case errors.Is(err, gosnmp.ErrMaxRetriesExceeded), errors.As(err, &late) && late.Timeout(), strings.Contains(err.Error(), "timeout"), ctx.Err() != nil:
		return device.Fail(device.Silent, c.address, doing, "no answer in %s, asked %d times; a device does not answer a wrong community either",
			requestWaits, sentAgain+1)
	case errors.Is(err, net.ErrClosed):
		return device.Fail(device.Lost, c.address, doing, "the connection was ended")
	case strings.Contains(err.Error(), "connection refused"):
		return device.Fail(device.Unreachable, c.address, doing, "nothing answers there")
	}
	return device.Fail(device.NotUnderstood, c.address, doing, "%s", err)
}

// A value is one object in an answer.
type value struct {
	Name  string `json:"name"`
	OID   string `json:"oid"`
	Value any    `json:"value"`
}

func (c *Client) get(objects []object) (any, error) {
	var oids []string
	for _, o := range objects {
		oids = append(oids, o.oid)
	}
	out := []value{}
	for len(oids) > 0 {
		n := min(len(oids), gosnmp.MaxOids)
		p, err := c.g.Get(oids[:n])
		if err != nil {
			return nil, err
		}
		if p.Error != gosnmp.NoError {
			return nil, device.Fail(device.Refused, c.address, "get", "the device says: %s", p.Error)
		}
		for _, v := range p.Variables {
			if missing(v.Type) {
				return nil, device.Fail(device.Refused, c.address, "get", "the device does not have %s", nameOf(v.Name))
			}
			out = append(out, valueOf(v))
		}
		oids = oids[n:]
	}
	return map[string]any{"values": out}, nil
}

// missing reports whether a device says that it does not have an object (RFC 3416, section 4.2.1).
func missing(t gosnmp.Asn1BER) bool {
	return t == gosnmp.NoSuchObject || t == gosnmp.NoSuchInstance || t == gosnmp.EndOfMibView
}

// walk goes through all instances of an object.
func (c *Client) walk(o object, each func(gosnmp.SnmpPDU)) error {
	n := 0
	return c.g.BulkWalk(o.oid, func(v gosnmp.SnmpPDU) error {
		if n++; n > mostValues {
			return device.Fail(device.NotUnderstood, c.address, "walk "+o.name, "more than %d values", mostValues)
		}
		if !missing(v.Type) && strings.HasPrefix(strings.TrimPrefix(v.Name, ".")+".", strings.TrimPrefix(o.oid, ".")+".") {
			each(v)
		}
		return nil
	})
}

func (c *Client) walkAll(objects []object) (any, error) {
	out := []value{}
	for _, o := range objects {
		if err := c.walk(o, func(v gosnmp.SnmpPDU) { out = append(out, valueOf(v)) }); err != nil {
			return nil, err
		}
	}
	return map[string]any{"values": out}, nil
}

// table puts the instances of several objects side by side, by their index.
func (c *Client) table(columns []object) (any, error) {
	rows, order := map[string]map[string]any{}, []string{}
	for _, o := range columns {
		err := c.walk(o, func(v gosnmp.SnmpPDU) {
			index := strings.TrimPrefix(strings.TrimPrefix(v.Name, "."), strings.TrimPrefix(o.oid, ".")+".")
			if rows[index] == nil {
				rows[index] = map[string]any{"index": index}
				order = append(order, index)
			}
			rows[index][o.name] = valueOf(v).Value
		})
		if err != nil {
			return nil, err
		}
	}
	out := []map[string]any{}
	for _, i := range order {
		out = append(out, rows[i])
	}
	return map[string]any{"rows": out}, nil
}

// valueOf is a value as patterns and layouts read it.
func valueOf(v gosnmp.SnmpPDU) value {
	out := value{Name: nameOf(v.Name), OID: strings.TrimPrefix(v.Name, ".")}
	switch v.Type {
	case gosnmp.OctetString:
		out.Value = octets(out.Name, v.Value)
	case gosnmp.ObjectIdentifier:
		text, _ := v.Value.(string)
		out.Value = strings.TrimPrefix(text, ".")
	case gosnmp.TimeTicks:
		out.Value = new(big.Int).Div(gosnmp.ToBigInt(v.Value), big.NewInt(100))
	case gosnmp.IPAddress:
		out.Value = v.Value
	case gosnmp.Integer:
		n := gosnmp.ToBigInt(v.Value)
		out.Value = n
		if word := enumerated(out.Name, n.Int64()); word != "" {
			out.Value = word
		}
	case gosnmp.Counter32, gosnmp.Gauge32, gosnmp.Counter64, gosnmp.Uinteger32:
		out.Value = gosnmp.ToBigInt(v.Value)
	default:
		out.Value = fmt.Sprint(v.Value)
	}
	return out
}

// octets is a string of octets: text where it is text, else hexadecimal; hardware addresses with colons.
func octets(name string, v any) string {
	b, _ := v.([]byte)
	if text := strings.TrimRight(string(b), "\x00"); !isAddress(name) && printable(text) {
		return text
	}
	if isAddress(name) {
		return net.HardwareAddr(b).String()
	}
	return "0x" + hex.EncodeToString(b)
}

// printable reports whether a person can read all of a text.
func printable(text string) bool {
	return utf8.ValidString(text) && !strings.ContainsFunc(text, func(r rune) bool { return !unicode.IsPrint(r) && !unicode.IsSpace(r) })
}

package gnoi

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/openconfig/gnmi/proto/gnmi"
	"google.golang.org/grpc/codes"
	"google.golang.org/grpc/status"

	"verimorph/device"
)

// An update is one value in an answer of gNMI, as patterns and layouts read it.
type update struct {
	Path  string            `json:"path"`
	Keys  map[string]string `json:"keys,omitempty"` // of the lists on the way, by name
	Value any               `json:"value"`
}

// callGNMI carries out get, set or subscribe once.
func (c *Client) callGNMI(ctx context.Context, what string) (answer string, err error) {
	word, rest, _ := strings.Cut(strings.TrimSpace(what), " ")
	bad := func(err error) (string, error) {
		return "", device.Fail(device.NotUnderstood, c.address, what, "%s", err)
	}
	client := gnmi.NewGNMIClient(c.conn)
	var all []*gnmi.Notification
	switch word {
	case "get":
		r := &gnmi.GetRequest{Encoding: gnmi.Encoding_JSON_IETF}
		if r.Path, err = paths(rest); err != nil {
			return bad(err)
		}
		err = c.signedIn(ctx, what, func(ctx context.Context) error {
			got, err := client.Get(ctx, r)
			all = got.GetNotification()
			return err
		})
	case "set":
		r, err := setRequest(rest)
		if err != nil {
			return bad(err)
		}
		return "", c.signedIn(ctx, "set", func(ctx context.Context) error {
			_, err := client.Set(ctx, r)
			return err
		})
	case "subscribe":
		once, rest, _ := strings.Cut(rest, " ")
		ps, e := paths(rest)
		if once != "once" || e != nil {
			return bad(fmt.Errorf("only subscribe once is known, with paths behind it"))
		}
		err = c.signedIn(ctx, what, func(ctx context.Context) (err error) {
			all, err = subscribeOnce(ctx, client, ps)
			return err
		})
	default:
		return bad(fmt.Errorf("gNMI has get, set and subscribe once, not %q", word))
	}
	if err != nil {
		return "", err
	}
	updates, err := flat(all)
	if err != nil {
		return bad(err)
	}
	data, err := json.MarshalIndent(map[string]any{"updates": updates}, "", "  ")
	if err != nil {
		return bad(err)
	}
	return string(data) + "\n", nil
}

// subscribeOnce asks for values and takes what comes until the device says that that was all.
func subscribeOnce(ctx context.Context, client gnmi.GNMIClient, ps []*gnmi.Path) (all []*gnmi.Notification, err error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	s, err := subscribe(ctx, client, gnmi.SubscriptionList_ONCE, ps)
	if err != nil {
		return nil, err
	}
	for {
		r, err := s.Recv()
		switch {
		case isEnd(err):
			return nil, status.Error(codes.DataLoss, "the stream ended before the device said that it was all")
		case err != nil:
			return nil, err
		case r.GetSyncResponse():
			return all, nil
		case r.GetUpdate() != nil:
			if all = append(all, r.GetUpdate()); len(all) > mostAnswers {
				return nil, status.Errorf(codes.ResourceExhausted, "more than %d answers", mostAnswers)
			}
		}
	}
}

// setRequest reads: update PATH JSON, replace PATH JSON, or delete PATH.
func setRequest(text string) (*gnmi.SetRequest, error) {
	word, rest, _ := strings.Cut(text, " ")
	end := pathEnd(rest)
	p, err := ParsePath(rest[:end])
	if err != nil {
		return nil, err
	}
	value := strings.TrimSpace(rest[end:])
	if word == "delete" && value == "" {
		return &gnmi.SetRequest{Delete: []*gnmi.Path{p}}, nil
	}
	if !json.Valid([]byte(value)) {
		return nil, fmt.Errorf("%q is no JSON", value)
	}
	u := []*gnmi.Update{{Path: p, Val: &gnmi.TypedValue{Value: &gnmi.TypedValue_JsonIetfVal{JsonIetfVal: []byte(value)}}}}
	switch word {
	case "update":
		return &gnmi.SetRequest{Update: u}, nil
	case "replace":
		return &gnmi.SetRequest{Replace: u}, nil
	}
	return nil, fmt.Errorf("set has update, replace and delete, not %q", word)
}

// flat puts notifications into one list of values.
func flat(all []*gnmi.Notification) ([]update, error) {
	out := []update{}
	for _, n := range all {
		for _, u := range n.Update {
			v, err := plain(u.Val)
			if err != nil {
				return nil, err
			}
			elems := slices.Concat(n.GetPrefix().GetElem(), u.GetPath().GetElem())
			one := update{Path: printPath(elems), Value: v}
			for _, e := range elems {
				for k, v := range e.Key {
					if one.Keys == nil {
						one.Keys = map[string]string{}
					}
					one.Keys[k] = v
				}
			}
			out = append(out, one)
		}
	}
	return out, nil
}

// plain is a value without its kind.
func plain(v *gnmi.TypedValue) (any, error) {
	switch x := v.GetValue().(type) {
	case *gnmi.TypedValue_JsonIetfVal:
		return json.RawMessage(x.JsonIetfVal), valid(x.JsonIetfVal)
	case *gnmi.TypedValue_JsonVal:
		return json.RawMessage(x.JsonVal), valid(x.JsonVal)
	case *gnmi.TypedValue_StringVal:
		return x.StringVal, nil
	case *gnmi.TypedValue_AsciiVal:
		return x.AsciiVal, nil
	case *gnmi.TypedValue_IntVal:
		return x.IntVal, nil
	case *gnmi.TypedValue_UintVal:
		return x.UintVal, nil
	case *gnmi.TypedValue_BoolVal:
		return x.BoolVal, nil
	case *gnmi.TypedValue_DoubleVal:
		return x.DoubleVal, nil
	case *gnmi.TypedValue_BytesVal:
		return x.BytesVal, nil
	case *gnmi.TypedValue_LeaflistVal:
		var list []any
		for _, e := range x.LeaflistVal.GetElement() {
			one, err := plain(e)
			if err != nil {
				return nil, err
			}
			list = append(list, one)
		}
		return list, nil
	}
	return nil, fmt.Errorf("a value of kind %T is not read", v.GetValue())
}

func valid(data []byte) error {
	if !json.Valid(data) {
		return fmt.Errorf("a value is no JSON")
	}
	return nil
}

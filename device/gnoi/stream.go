package gnoi

import (
	"context"
	"encoding/json"
	"fmt"

	"github.com/openconfig/gnmi/proto/gnmi"

	"verimorph/device"
)

// mostWords bounds the line that a change becomes, in bytes.
const mostWords = 2000

// Subscribe asks a device to tell each value below some paths when it changes (gNMI, section 3.5.1.5.2, mode STREAM), and passes each change on
// as one line, path=value, until ctx or the stream ends. stream are the paths, with blanks between them. What the values are to begin with is
// not passed on: only what comes after the device said that it has told them all. It returns why it ended.
func (c *Client) Subscribe(ctx context.Context, stream string, hear func(text string)) error {
	const doing = "subscribe"
	ps, err := paths(stream)
	if err != nil {
		return device.Fail(device.NotUnderstood, c.address, doing, "%s", err)
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	return c.signedIn(ctx, doing, func(ctx context.Context) error {
		s, err := subscribe(ctx, gnmi.NewGNMIClient(c.conn), gnmi.SubscriptionList_STREAM, ps)
		if err != nil {
			return err
		}
		for synced := false; ; {
			r, err := s.Recv()
			switch {
			case isEnd(err):
				return c.ended(ctx, doing, "the device ended the stream")
			case err != nil:
				return err
			case r.GetSyncResponse():
				synced = true
			case synced && r.GetUpdate() != nil:
				if err := changes(r.GetUpdate(), hear); err != nil {
					return device.Fail(device.NotUnderstood, c.address, doing, "%s", err)
				}
			}
		}
	})
}

// subscribe opens a stream of values.
func subscribe(ctx context.Context, client gnmi.GNMIClient, mode gnmi.SubscriptionList_Mode, ps []*gnmi.Path) (gnmi.GNMI_SubscribeClient, error) {
	s, err := client.Subscribe(ctx)
	if err != nil {
		return nil, err
	}
	list := &gnmi.SubscriptionList{Mode: mode, Encoding: gnmi.Encoding_JSON_IETF}
	for _, p := range ps {
		one := &gnmi.Subscription{Path: p}
		if mode == gnmi.SubscriptionList_STREAM {
			one.Mode = gnmi.SubscriptionMode_ON_CHANGE
		}
		list.Subscription = append(list.Subscription, one)
	}
	err = s.Send(&gnmi.SubscribeRequest{Request: &gnmi.SubscribeRequest_Subscribe{Subscribe: list}})
	if isEnd(err) { // why is said by the next answer
		err = nil
	}
	return s, err
}

// changes are the lines that a notification becomes.
func changes(n *gnmi.Notification, hear func(text string)) error {
	updates, err := flat([]*gnmi.Notification{n})
	if err != nil {
		return err
	}
	for _, u := range updates {
		value, err := json.Marshal(u.Value)
		if err != nil {
			return err
		}
		if text, ok := u.Value.(string); ok {
			value = []byte(text)
		}
		line := fmt.Sprintf("%s=%s", u.Path, value)
		hear(line[:min(len(line), mostWords)])
	}
	for _, p := range n.Delete {
		line := printPath(append(n.GetPrefix().GetElem(), p.GetElem()...)) + " is gone"
		hear(line[:min(len(line), mostWords)])
	}
	return nil
}

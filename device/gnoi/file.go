package gnoi

import (
	"bytes"
	"context"
	"crypto/md5"
	"crypto/sha256"
	"crypto/sha512"
	"fmt"
	"hash"

	"github.com/openconfig/gnoi/file"
	"github.com/openconfig/gnoi/types"

	"verimorph/device"
	"verimorph/device/link"
)

// Files: small ones, that are read into memory.

// Fetch reads a file (gNOI file.Get). What comes is held against the hash that the device sends behind it.
func (c *Client) Fetch(ctx context.Context, name string) (data []byte, err error) {
	doing := "file.Get " + name
	err = c.signedIn(ctx, doing, func(ctx context.Context) error {
		ctx, cancel := context.WithCancel(ctx)
		defer cancel()
		s, err := c.file.Get(ctx, &file.GetRequest{RemoteFile: name})
		if err != nil {
			return err
		}
		data = nil
		for {
			r, err := s.Recv()
			switch {
			case isEnd(err):
				return c.ended(ctx, doing, fmt.Sprintf("the stream ended after %d bytes, without the hash of the file", len(data)))
			case err != nil:
				return err
			case r.GetHash() != nil:
				return c.same(doing, r.GetHash(), data)
			}
			if data = append(data, r.GetContents()...); len(data) > link.MostBytes {
				return device.Fail(device.NotUnderstood, c.address, doing, "the file is larger than %d MiB", link.MostBytes>>20)
			}
		}
	})
	if err != nil {
		return nil, err
	}
	return data, nil
}

// same holds a content against the hash that a device gives of it.
func (c *Client) same(doing string, h *types.HashType, data []byte) error {
	kinds := map[types.HashType_HashMethod]func() hash.Hash{types.HashType_SHA256: sha256.New, types.HashType_SHA512: sha512.New, types.HashType_MD5: md5.New}
	kind := kinds[h.Method]
	if kind == nil {
		return device.Fail(device.NotUnderstood, c.address, doing, "a hash of kind %s is not known", h.Method)
	}
	sum := kind()
	_, _ = sum.Write(data)
	if !bytes.Equal(sum.Sum(nil), h.Hash) {
		return device.Fail(device.NotUnderstood, c.address, doing, "what came has not the %s sum that the device gives", h.Method)
	}
	return nil
}

// Replace writes a file (gNOI file.Put). The device checks it against our hash.
func (c *Client) Replace(ctx context.Context, name string, data []byte) error {
	doing := "file.Put " + name
	return c.signedIn(ctx, doing, func(ctx context.Context) error {
		ctx, cancel := context.WithCancel(ctx)
		defer cancel()
		s, err := c.file.Put(ctx)
		if err != nil {
			return err
		}
		sum := sha256.Sum256(data)
		requests := []*file.PutRequest{{Request: &file.PutRequest_Open{Open: &file.PutRequest_Details{RemoteFile: name, Permissions: 0o600}}}}
		for rest := data; len(rest) > 0; rest = rest[min(chunk, len(rest)):] {
			requests = append(requests, &file.PutRequest{Request: &file.PutRequest_Contents{Contents: rest[:min(chunk, len(rest))]}})
		}
		requests = append(requests, &file.PutRequest{Request: &file.PutRequest_Hash{Hash: &types.HashType{Method: types.HashType_SHA256, Hash: sum[:]}}})
		for _, r := range requests {
			if err := s.Send(r); isEnd(err) {
				break // the answer says why
			} else if err != nil {
				return err
			}
		}
		_, err = s.CloseAndRecv()
		return err
	})
}

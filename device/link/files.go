package link

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strconv"
	"strings"

	"verimorph/device"
)

// ReadFile reads a file of at most MostBytes over SFTP.
func ReadFile(l Link, address, name string) ([]byte, error) {
	doing := "fetch " + name
	files, err := l.SFTP()
	if err != nil {
		return nil, err
	}
	f, err := files.Open(name)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) {
		e := device.Fail(device.Refused, address, doing, "there is no such file, or it may not be read")
		e.Cause = err
		return nil, e
	}
	if err != nil {
		return nil, device.Fail(device.Lost, address, doing, "%s", err)
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, MostBytes+1))
	if err != nil {
		return nil, device.Fail(device.Lost, address, doing, "%s", err)
	}
	if len(data) > MostBytes {
		return nil, device.Fail(device.NotUnderstood, address, doing, "larger than %d MiB", MostBytes>>20)
	}
	return data, nil
}

// WriteFile writes a file over SFTP and reads it back.
func WriteFile(l Link, address, name string, data []byte) error {
	doing := "put " + name
	fail := func(err error) error {
		kind := device.Lost
		if text := strings.ToLower(err.Error()); strings.Contains(text, "no room") || strings.Contains(text, "no space") {
			kind = device.NoRoom
		}
		return device.Fail(kind, address, doing, "%s", err)
	}
	files, err := l.SFTP()
	if err != nil {
		return err
	}
	f, err := files.Create(name)
	if err != nil {
		return fail(err)
	}
	_, err = f.Write(data)
	if e := f.Close(); err == nil {
		err = e
	}
	if err != nil {
		return fail(err)
	}
	got, err := ReadFile(l, address, name)
	if err != nil {
		return err
	}
	if !bytes.Equal(got, data) {
		return device.Fail(device.Lost, address, doing, "reading it back gives %d other bytes", len(got))
	}
	return nil
}

// Get reads a file in the way of scp -f: the device announces mode, size and name, then sends the bytes. name has to be safe in a command.
func Get(ctx context.Context, l Link, address, name string) ([]byte, error) {
	doing := "scp " + name
	var data []byte
	err := scp(ctx, l, address, "scp -f "+name, doing, func(in io.Writer, out io.Reader) error {
		if _, err := in.Write([]byte{0}); err != nil {
			return err
		}
		line, err := scpLine(out)
		if err != nil {
			return err
		}
		if line[0] == 1 || line[0] == 2 {
			return device.Fail(device.Refused, address, doing, "the device says: %s", strings.TrimSpace(line[1:]))
		}
		words := strings.SplitN(line, " ", 3)
		size := int64(-1)
		if len(words) == 3 {
			size, _ = strconv.ParseInt(words[1], 10, 64)
		}
		if line[0] != 'C' || size < 0 || size > MostBytes {
			return device.Fail(device.NotUnderstood, address, doing, "%.80q announces no file", line)
		}
		if _, err := in.Write([]byte{0}); err != nil {
			return err
		}
		data = make([]byte, size)
		if n, err := io.ReadFull(out, data); err != nil {
			return fmt.Errorf("%d of %d bytes came", n, size)
		}
		end := make([]byte, 1)
		if _, err := io.ReadFull(out, end); err != nil || end[0] != 0 {
			return fmt.Errorf("the device does not confirm the end of the file")
		}
		_, err = in.Write([]byte{0})
		return err
	})
	return data, err
}

// Put writes a file in the way of scp -t. name has to be safe in a command.
func Put(ctx context.Context, l Link, address, name string, data []byte) error {
	doing := "scp " + name
	return scp(ctx, l, address, "scp -t "+name, doing, func(in io.Writer, out io.Reader) error {
		confirmed := func() error { return scpConfirmed(out, address, doing) }
		if err := confirmed(); err != nil {
			return err
		}
		if _, err := fmt.Fprintf(in, "C0600 %d %s\n", len(data), name[strings.LastIndexByte(name, '/')+1:]); err != nil {
			return err
		}
		if err := confirmed(); err != nil {
			return err
		}
		if _, err := in.Write(append(bytes.Clone(data), 0)); err != nil {
			return err
		}
		return confirmed()
	})
}

// Push writes a large file in the way of scp -t, without a way to go on where it broke off. sent hears how many bytes are out. name has to be safe in a
// command.
func Push(ctx context.Context, l Link, address, name string, size int64, content io.Reader, sent func(int64)) error {
	doing := "scp " + name
	return scp(ctx, l, address, "scp -t "+name, doing, func(in io.Writer, out io.Reader) error {
		if err := scpConfirmed(out, address, doing); err != nil {
			return err
		}
		if _, err := fmt.Fprintf(in, "C0600 %d %s\n", size, name[strings.LastIndexByte(name, '/')+1:]); err != nil {
			return err
		}
		if err := scpConfirmed(out, address, doing); err != nil {
			return err
		}
		if n, err := io.Copy(&counted{in, sent, 0}, io.LimitReader(content, size)); err != nil || n != size {
			if no := scpRefusal(out, address, doing); no != nil { // it says why before it hangs up
				return no
			}
			return fmt.Errorf("%d of %d bytes are out: %w", n, size, cmp.Or(err, io.ErrUnexpectedEOF))
		}
		if _, err := in.Write([]byte{0}); err != nil {
			return err
		}
		return scpConfirmed(out, address, doing)
	})
}

// counted tells how much was written.
type counted struct {
	to   io.Writer
	tell func(int64)
	n    int64
}

func (c *counted) Write(p []byte) (int, error) {
	n, err := c.to.Write(p)
	c.n += int64(n)
	c.tell(c.n)
	return n, err
}

// scpConfirmed reads the byte that confirms what was sent; anything else is a refusal in the device's words.
func scpConfirmed(out io.Reader, address, doing string) error {
	b := make([]byte, 1)
	if _, err := io.ReadFull(out, b); err != nil {
		return err
	}
	if b[0] != 0 {
		return scpNo(out, address, doing)
	}
	return nil
}

// scpRefusal is what a device says after a transfer broke off; nil when it says nothing.
func scpRefusal(out io.Reader, address, doing string) error {
	b := make([]byte, 1)
	if _, err := io.ReadFull(out, b); err != nil || b[0] == 0 {
		return nil
	}
	return scpNo(out, address, doing)
}

func scpNo(out io.Reader, address, doing string) error {
	line, _ := scpLine(out)
	kind := device.Refused
	if text := strings.ToLower(line); strings.Contains(text, "no room") || strings.Contains(text, "no space") {
		kind = device.NoRoom
	}
	return device.Fail(kind, address, doing, "the device says: %s", strings.TrimSpace(line))
}

func scpLine(r io.Reader) (string, error) {
	var line []byte
	b := make([]byte, 1)
	for len(line) < 2048 {
		if _, err := io.ReadFull(r, b); err != nil {
			return "", err
		}
		if b[0] == '\n' && len(line) > 0 {
			return string(line), nil
		}
		line = append(line, b[0])
	}
	return "", fmt.Errorf("a line without end")
}

func scp(ctx context.Context, l Link, address, command, doing string, talk func(in io.Writer, out io.Reader) error) error {
	s, err := l.Exec(ctx, command, doing)
	if err != nil {
		return err
	}
	defer s.Close()
	err = talk(s.In, s.Out)
	if err == nil || device.KindOf(err) != "" {
		return err
	}
	return device.Fail(device.Lost, address, doing, "%s", err)
}

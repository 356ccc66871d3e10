package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"verimorph/core/config"
	"verimorph/core/convert"
)

// configs measures comparing, parsing and converting configurations of 100,000 lines.
func configs(dir string) {
	old, new := filepath.Join(dir, "old.cfg"), filepath.Join(dir, "new.cfg")
	lines := bigConfig(100_000)
	check(os.WriteFile(old, []byte(strings.Join(lines, "\n")+"\n"), 0o600))
	check(os.WriteFile(new, []byte(strings.Join(scatter(lines, 2000), "\n")+"\n"), 0o600))
	client := filepath.Join(dir, "verimorph")
	build := exec.Command("go", "build", "-o", client, "./cmd/verimorph")
	build.Stderr = os.Stderr
	check(build.Run())
	took := make([][]time.Duration, 2)
	for range 9 { // in turns, so that a busy moment of the machine meets both
		for i, args := range [][]string{{client, "compare", old, new}, {"diff", "-u", old, new}} {
			t, _ := measured(args...)
			took[i] = append(took[i], t)
		}
	}
	row("comparing two configurations of 100,000 lines", slices.Min(took[0]), "diff -u", slices.Min(took[1]), "shown")
	compareShapes(dir, client)
	texts := map[config.Syntax]string{config.BlockIndent: strings.Join(lines, "\n") + "\n"}
	d, _ := config.Parse("x", texts[config.BlockIndent], config.BlockIndent)
	for _, s := range []config.Syntax{config.Braces, config.Dotted, config.INI, config.JSON, config.XML} {
		texts[s] = rewritten(d, s)
	}
	for _, name := range config.Syntaxes {
		s := config.Syntax(name)
		n := strings.Count(texts[s], "\n")
		t := best(5, func() {
			if _, broken := config.Parse("x", texts[s], s); len(broken) > 0 {
				check(broken[0])
			}
		})
		row(fmt.Sprintf("parsing 1,000,000 lines of %s", s), t*time.Duration(1_000_000)/time.Duration(n), "limit", time.Second, "at most 1")
	}
	conversion()
}

// conversion converts a firewall's configuration of 100,000 lines, writes its ledger and checks it.
func conversion() {
	l, found := convert.ReadDir(os.DirFS("demo/catalog"))
	if len(found.Errors()) > 0 {
		check(found)
	}
	var b strings.Builder
	b.WriteString("box\n  name bench\n")
	for i := range 4 {
		fmt.Fprintf(&b, "port p%d\n  role zone%d\n  address 10.0.%d.1/24\n", i+1, i, i)
	}
	for i := range 33_300 {
		fmt.Fprintf(&b, "translate t%d\n  arrive zone%d 203.0.113.%d tcp %d\n  deliver 10.1.%d.%d tcp 443\n", i, i%4, i%250+1, 1000+i%60000, i%250, i/250+1)
	}
	from, err := l.ParseStop("TH-60@4.2.9")
	check(err)
	to, err := l.ParseStop("TH-60@5.4.2")
	check(err)
	text := b.String()
	defer debug.SetGCPercent(debug.SetGCPercent(400)) // as the client does
	took := best(7, func() {
		d, broken := config.Parse("x", text, config.BlockIndent)
		if len(broken) > 0 {
			check(broken[0])
		}
		r, err := l.Convert(convert.Job{From: from, To: to}, d)
		check(err)
		if wrong := convert.Check(text, r.Text, r.S, r.T, r.Ledger); len(wrong) > 0 {
			check(fmt.Errorf("%s", wrong[0]))
		}
	})
	row(fmt.Sprintf("converting %d lines, ledger and check", strings.Count(text, "\n")), took, "limit", time.Second/2, "at most 1")
}

// bigConfig writes a configuration of about n lines.
func bigConfig(n int) (out []string) {
	r := rand.New(rand.NewPCG(1, 2))
	words := []string{"address", "role", "link", "speed", "note", "limit"}
	for len(out) < n {
		out = append(out, fmt.Sprintf("port p%d", len(out)))
		for j := range 3 + r.IntN(10) {
			out = append(out, fmt.Sprintf("  %s%d 10.%d.%d.%d/24", words[r.IntN(len(words))], j, len(out)%256, len(out)/256%256, j))
		}
	}
	return out
}

// scatter changes, adds and removes lines all over a configuration.
func scatter(lines []string, n int) []string {
	r := rand.New(rand.NewPCG(3, 4))
	out := slices.Clone(lines)
	for k := range n {
		i := r.IntN(len(out))
		switch {
		case !strings.HasPrefix(out[i], " "):
		case r.IntN(10) < 6:
			out[i] += " x"
		case r.IntN(2) == 0:
			out[i] = ""
		default:
			out[i] += fmt.Sprintf("\n  extra%d 1", k)
		}
	}
	return slices.DeleteFunc(out, func(s string) bool { return s == "" })
}

// rewritten is the same configuration in another syntax.
func rewritten(d *config.Document, s config.Syntax) string {
	var b strings.Builder
	if s == config.XML {
		b.WriteString("<c>\n")
	}
	if s == config.JSON {
		b.WriteString("{\n")
	}
	for i, n := range d.Root.Children {
		key := n.Words[0].Text
		switch s {
		case config.Braces:
			fmt.Fprintf(&b, "port %s {\n", key)
		case config.INI:
			fmt.Fprintf(&b, "[port %s]\n", key)
		case config.JSON:
			fmt.Fprintf(&b, "  %q: {\n", key)
		case config.XML:
			fmt.Fprintf(&b, "  <port name=%q>\n", key)
		}
		for j, k := range n.Children {
			var words []string
			for _, w := range k.Words {
				words = append(words, w.Text)
			}
			v := strings.Join(words, " ")
			switch s {
			case config.Braces:
				fmt.Fprintf(&b, "    %s %s;\n", k.Name, v)
			case config.Dotted:
				fmt.Fprintf(&b, "port.%s.%s = %s\n", key, k.Name, v)
			case config.INI:
				fmt.Fprintf(&b, "%s = %s\n", k.Name, v)
			case config.JSON:
				fmt.Fprintf(&b, "    %q: %q%s\n", k.Name, v, map[bool]string{true: ",", false: ""}[j+1 < len(n.Children)])
			case config.XML:
				fmt.Fprintf(&b, "    <%s>%s</%s>\n", k.Name, v, k.Name)
			}
		}
		switch s {
		case config.Braces:
			b.WriteString("}\n")
		case config.JSON:
			b.WriteString("  }" + map[bool]string{true: ",", false: ""}[i+1 < len(d.Root.Children)] + "\n")
		case config.XML:
			b.WriteString("  </port>\n")
		}
	}
	b.WriteString(map[config.Syntax]string{config.JSON: "}\n", config.XML: "</c>\n"}[s])
	return b.String()
}

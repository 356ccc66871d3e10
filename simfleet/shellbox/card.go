package shellbox

import (
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"
)

// A card that somebody puts into a box: the box keeps all that it is on it, and can read that again.

// kept is what a box writes onto a card.
type kept struct {
	Model, Serial, Version string
	Parts                  map[string]string
}

// Card is the folder with what the box wrote onto the card: whoever takes the card out finds it there.
func (b *Box) Card() string { return filepath.Join(b.dir, "card") }

// onCard is where a file lies that the box writes onto the card in it.
func (b *Box) onCard(name string) (string, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if !b.st.Medium {
		return "", errors.New("there is no card in it")
	}
	return filepath.Join(b.Card(), filepath.Base(name)), nil
}

// KeepOnCard writes all that the box is onto the card.
func KeepOnCard(s *Shell, a map[string]string) error {
	b := s.b
	name, err := b.onCard(a["file"])
	if err != nil {
		return err
	}
	var all kept
	s.locked(func(b *Box) {
		all = kept{b.Model, b.serial(), b.version(), map[string]string{}}
		for part, text := range b.st.Parts {
			all.Parts[part] = text
		}
	})
	if b.armed(CardRots) {
		all.Parts[b.m.Main] += "\n"
	}
	data, err := json.Marshal(all)
	if err != nil {
		return err
	}
	for _, percent := range []int{25, 50, 75, 100} {
		time.Sleep(b.sim(10 * time.Second))
		if _, err := b.onCard(a["file"]); err != nil {
			return err
		}
		s.say("%d%%", percent)
	}
	if err := os.MkdirAll(b.Card(), 0o700); err != nil {
		return err
	}
	return os.WriteFile(name, data, 0o600)
}

// TellCard says what lies on the card under a name.
func TellCard(s *Shell, a map[string]string) error {
	name, err := s.b.onCard(a["file"])
	if err != nil {
		return err
	}
	data, err := os.ReadFile(name)
	if err != nil {
		return errors.New("the card has no such file")
	}
	time.Sleep(s.b.sim(5 * time.Second))
	var all kept
	if json.Unmarshal(data, &all) != nil {
		return errors.New("what the card holds cannot be read")
	}
	s.say("kept %d %x", len(data), sha256.Sum256(data))
	s.say("of %s %s %s", all.Model, all.Serial, all.Version)
	s.say("configuration %s", fmt.Sprintf("%x", sha256.Sum256([]byte(all.Parts[s.b.m.Main]))))
	return nil
}

package change

import (
	"encoding/json"
	"fmt"
	"strings"

	"verimorph/core/catalog"
)

// PlanFormat is the number of the format in which steps are stored now. Format 1 had one flat set of parameters for all kinds;
// [Upgrade] makes format 2 of it.
const PlanFormat = 2

// storedStep is a step as it is stored.
type storedStep struct {
	Number    int             `json:"number"`
	Member    int             `json:"member"`
	After     []int           `json:"after,omitempty"`
	Hop       int             `json:"hop"`
	Kind      Kind            `json:"kind"`
	Title     string          `json:"title"`
	Expect    storedSpan      `json:"expect"`
	SafePoint bool            `json:"safePoint,omitempty"`
	Back      bool            `json:"back,omitempty"`
	Params    json.RawMessage `json:"params,omitempty"`
}

// storedSpan is an expected range in seconds.
type storedSpan struct {
	Low   float64 `json:"low"`
	High  float64 `json:"high"`
	Limit float64 `json:"limit"`
}

// MarshalJSON writes a step in the current format.
func (s Step) MarshalJSON() ([]byte, error) {
	out := storedStep{Number: s.Number, Member: s.Member, After: s.After, Hop: s.Hop, Kind: s.Kind, Title: s.Title, SafePoint: s.SafePoint, Back: s.Back,
		Expect: storedSpan{s.Expect.Low, s.Expect.High, s.Expect.Limit}}
	if s.Params != nil {
		data, err := json.Marshal(s.Params)
		if err != nil {
			return nil, err
		}
		if string(data) != "{}" {
			out.Params = data
		}
	}
	return json.Marshal(out)
}

// UnmarshalJSON reads what MarshalJSON wrote. A kind that is not known keeps its name and has no parameters: whoever carries it out
// refuses it.
func (s *Step) UnmarshalJSON(data []byte) error {
	var in storedStep
	if err := json.Unmarshal(data, &in); err != nil {
		return err
	}
	*s = Step{Number: in.Number, Member: in.Member, After: in.After, Hop: in.Hop, Kind: in.Kind, Title: in.Title, SafePoint: in.SafePoint, Back: in.Back,
		Expect: catalog.Span{Low: in.Expect.Low, High: in.Expect.High, Limit: in.Expect.Limit}}
	var err error
	s.Params, err = ParamsOf(in.Kind, in.Params)
	return err
}

// ParamsOf reads the parameters of a kind; no data are empty parameters.
func ParamsOf(k Kind, data []byte) (Params, error) {
	spec := k.Spec()
	if spec.Params == nil {
		return nil, nil
	}
	if len(data) == 0 {
		return spec.Params.Zero, nil
	}
	p, err := spec.Params.read(data)
	if err != nil {
		return nil, fmt.Errorf("the parameters of a step %q cannot be read: %w", k, err)
	}
	return p, nil
}

// stepOf1 is a step of format 1.
type stepOf1 struct {
	Number                      int
	Hop                         int
	Kind                        Kind
	Title                       string
	Expect                      catalog.Span
	StopsBefore                 bool
	Part                        string
	File                        *File
	Text                        string
	Once, InPlace, Media, Other bool
	Back                        bool
	Names                       []string
	Wants                       string
}

// renamed are the kinds that had another name in format 1.
var renamed = map[Kind]Kind{"point": GoNoGo, "ahead": Prestage}

// Upgrade turns a stored step of format 1 into one of [PlanFormat]. What format 2 says already stays as it is.
func Upgrade(data []byte) ([]byte, error) {
	var now map[string]json.RawMessage
	if err := json.Unmarshal(data, &now); err != nil {
		return nil, err
	}
	if _, ok := now["kind"]; ok {
		return data, nil
	}
	var in stepOf1
	if err := json.Unmarshal(data, &in); err != nil {
		return nil, err
	}
	s := Step{Number: in.Number, Member: memberOf(in.Kind), Hop: in.Hop, Kind: in.Kind, Title: in.Title, Expect: in.Expect, SafePoint: in.StopsBefore, Back: in.Back}
	if k, ok := renamed[in.Kind]; ok {
		s.Kind, s.Title = k, strings.NewReplacer("Check before no return", GoNoGo.Spec().Title, "Send ahead for the next hop", Prestage.Spec().Title).Replace(in.Title)
	}
	if spec := s.Kind.Spec(); spec.Params != nil {
		switch spec.Params.Zero.(type) {
		case FileParams:
			s.Params = FileParams{in.File, in.Media}
		case InstallParams:
			s.Params = InstallParams{in.File, in.InPlace, in.Other}
		case ComponentParams:
			s.Params = ComponentParams{Component: in.Part, Version: in.Wants, File: in.File}
		case PowerParams:
			s.Params = PowerParams{in.Part, in.Wants, in.Text != ""}
		case RestartParams:
			s.Params = RestartParams{in.Part}
		case LicenceParams:
			s.Params = LicenceParams{in.Part}
		case PartParams:
			s.Params = PartParams{Part: in.Part}
		case HandParams:
			s.Params = HandParams{Task: in.Text}
		case SlotParams:
			s.Params = SlotParams{Once: in.Once}
		case CleanUpParams:
			s.Params = CleanUpParams{in.Names}
		}
	}
	return json.Marshal(s)
}

// UpgradeWish turns a stored wish of format 1 into one of [WishFormat]. kind is what the change is for; backup is the one that a restore puts
// back.
func UpgradeWish(kind string, backup int64, data []byte) ([]byte, error) {
	var now struct{ Format int }
	if err := json.Unmarshal(data, &now); err != nil || now.Format >= WishFormat {
		return data, err
	}
	w := Wish{Format: WishFormat}
	if kind == Restoring {
		w.Restore = &RestoreWish{Backup: backup}
		if err := json.Unmarshal(data, w.Restore); err != nil {
			return nil, err
		}
		w.Restore.Backup = backup
		return json.Marshal(w)
	}
	old := struct {
		Device, ComesBackAt string
		Back, Carry, Both   bool
		CleanUp             []string
		Licences            []struct{ Name string }
		Acts                []Asked
		Aim
	}{}
	if err := json.Unmarshal(data, &old); err != nil {
		return nil, err
	}
	w.Device, w.ComesBackAt, w.Back, w.Carry, w.Both, w.CleanUp, w.Operations, w.Aim = old.Device, old.ComesBackAt, old.Back, old.Carry, old.Both, old.CleanUp, old.Acts, old.Aim
	for _, l := range old.Licences {
		w.Licences = append(w.Licences, l.Name)
	}
	return json.Marshal(w)
}

package portrait

import (
	"encoding/json"
	"time"
)

// format1 is how portraits were stored before [Portrait] was the one model of a device.
type format1 struct {
	Name, Maker, Model, Serial, Version string
	Uptime                              time.Duration
	Started                             string
	ServicesReady, Unsaved              Fact
	Slots                               []Slot
	Total, Free                         int64
	Stores                              []struct {
		Name        string
		Total, Free int64
	}
	Files                 []File
	Generation            string
	Components            map[string]string
	Parts                 []Module
	Variables             map[string]string
	Licences              []string
	Work                  string
	OutOfService, Drained Fact
	NotUnderstood         map[string]string
}

// Upgrade turns a stored portrait of the first format into the JSON of a [Portrait]. One of the current format stays as it is.
func Upgrade(data []byte) ([]byte, error) {
	var now map[string]json.RawMessage
	if err := json.Unmarshal(data, &now); err != nil {
		return nil, err
	}
	if _, ok := now["model"]; ok {
		return data, nil
	}
	var in format1
	if err := json.Unmarshal(data, &in); err != nil {
		return nil, err
	}
	p := Portrait{Name: in.Name, Maker: in.Maker, Model: in.Model, Serial: in.Serial, Version: in.Version, UptimeSeconds: int64(in.Uptime / time.Second), Started: in.Started,
		ServicesReady: in.ServicesReady, Unsaved: in.Unsaved, Slots: in.Slots, Files: in.Files, Generation: in.Generation, Components: in.Components, Modules: in.Parts,
		BootVariables: in.Variables, Licences: in.Licences, Work: in.Work, OutOfService: in.OutOfService, Drained: in.Drained, NotUnderstood: in.NotUnderstood}
	if in.Total > 0 {
		p.SetImageRoom(in.Total, in.Free)
	}
	for _, s := range in.Stores {
		p.AddStorage(s.Name, s.Total, s.Free)
	}
	return json.Marshal(p)
}

package report

import (
	"bytes"
	"time"

	"envask/internal/archive"
	"envask/internal/ask"
	"envask/internal/brief"
	"envask/internal/reach"
	"envask/internal/redact"
	"envask/internal/round"
)

// Text gives the page's own words, which stand in every archive: a page on which every part is drawn, with nothing of any
// case in it.
func Text() string {
	at := time.Unix(1, 0)
	m := archive.Manifest{Title: "-", SignedBy: "-", NewSince: "-", Lacking: []string{"-"},
		Window: archive.WindowInfo{Extra: "-", Remarks: []string{"-"}},
		Rounds: []archive.RoundInfo{{Note: "-", Window: "-"}, {}}, Clocks: []round.Clock{{},
			{Measured: true, Offset: time.Second}, {Measured: true}},
		Reached: []round.Place{{Served: reach.Served{After: "-", Remark: "-"}}},
		Members: []round.Members{{System: "-", ID: "-", Fellows: []round.Fellow{{Name: "-"}}, Absent: []string{"-"}},
			{System: "-", ID: "-", Reason: "-"}, {System: "-", ID: "-", Fellows: []round.Fellow{{Name: "-", Listed: true}}}},
		Groups:    []round.GroupResult{{Why: "-", Items: []string{"-"}, Whole: []string{"-"}, Lacking: []string{"-"}}},
		Coverage:  round.Coverage{{System: "", Item: "-"}},
		Elsewhere: []archive.Elsewhere{{Size: 1}},
		Files: []archive.File{{System: "-", Round: "-", Findings: redact.Counts{"-": 1},
			Cut: &round.CutInfo{Lines: 1, Of: 1, First: at, Last: at, Unpacked: "-"}},
			{System: "-", State: round.Cut, Path: "-", First: at, Last: at, Active: true},
			{System: "-", Path: "-", Brought: &archive.Brought{Boxes: 1, Requests: []archive.Request{{}}}}},
		LeftOut: []archive.LeftOut{{State: round.Refused, Size: 1}, {State: round.Refused, Size: 1}},
		Redaction: archive.Redaction{Findings: redact.Counts{}, Opaque: []string{"-"}, Disclosed: map[string]int{"-": 1},
			Weaker: []string{"-"}, AsIs: []string{"-"}, StillThere: []archive.StillThere{{}}},
	}
	for _, s := range round.States {
		m.Coverage = append(m.Coverage, round.Cell{System: "-", Item: string(s), State: s, Required: true,
			Files: 1, Unmet: []string{"-"}})
	}
	for _, r := range redact.Rules {
		m.Redaction.Findings[r.Name] = 1
	}
	c := Content{Manifest: &m, Brief: brief.Brief{Ask: &ask.Ask{Questions: []ask.Question{{ID: "a"}, {ID: "b"}}},
		Answers: map[string]string{"a": "-"}},
		Facts: Facts{Systems: []string{"-"}, Rows: []Fact{{Values: []string{"-"}, Heeds: []bool{true}},
			{Values: []string{""}, Differs: true}}}}
	var b bytes.Buffer
	whole := m
	whole.Complete, whole.Redaction.Findings = true, nil
	listed := len(m.Files)
	m.Files = append(m.Files, archive.File{System: "-", Path: "-", State: round.Cut}, // more than are listed
		archive.File{System: "-", Path: "a/-"})
	for i, one := range []*archive.Manifest{&m, &whole} {
		c.Manifest = one
		c.bounds = &bounds{cuts: listed, ofSystem: listed, folders: 1, unfolded: i * maxLinks}
		if err := Page(&b, &c); err != nil {
			panic(err) // a buffer takes everything
		}
	}
	return b.String()
}

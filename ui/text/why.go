package text

import (
	"unquil/core/diagnosis"
	"unquil/core/finding"
)

// Verdict draws where and why a name fails: the sentence to read out first,
// then who and what to do, then what else was seen and looked at.
func (v *View) Verdict(d *diagnosis.Verdict) {
	name := nameText(d.Name)
	switch {
	case !d.OK():
		v.flow("", 0, severe[finding.Fault].Render("fault")+"  "+name+": "+d.Text, plainStyle)
		v.line()
		v.row("where", whereWords(d))
		v.row("why", string(d.Cause[0].Code)+": "+meaning(d.Cause[0].Code))
		v.row("how sure", d.Sure+": "+d.Because)
		v.row("who mends", d.Who)
		v.row("do now", d.Next)
		if d.Lasts > 0 {
			v.row("until", "it ends by itself in "+Seconds(d.Lasts)+" at the latest")
		}
		v.row("shown by", exchanges(d.Evidence()))
	case d.Blind():
		v.flow("", 0, severe[finding.Concern].Render("not known")+"  "+name+": nothing could be asked, so nothing can be said.", plainStyle)
	case finding.Worst(d.Also) == finding.Concern:
		v.flow("", 0, severe[finding.Concern].Render("it works, with a concern")+"  "+name+": "+d.Text+".", plainStyle)
	default:
		v.flow("", 0, good.Render("nothing wrong")+"  "+name+": "+d.Text+".", plainStyle)
	}
	v.findings("also seen", d.Also, false)
	v.line()
	v.line(strong.Render("checked"))
	for _, check := range d.Checks {
		style := map[diagnosis.State]string{diagnosis.Fine: good.Render("fine"), diagnosis.Wrong: severe[finding.Fault].Render("wrong"), diagnosis.Unknown: quiet.Render("unknown")}[check.State]
		v.flow("  "+style, labelWidth, check.What+": "+check.Saw, plainStyle)
	}
}

func whereWords(d *diagnosis.Verdict) string {
	at := spoken(d.At)
	if at == "" {
		return string(d.Where)
	}
	return string(d.Where) + ": " + at
}

func meaning(code finding.Code) string {
	entry, _ := finding.Of(code)
	return entry.Meaning
}

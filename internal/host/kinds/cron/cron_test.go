package cron

import (
	"encoding/json"
	"reflect"
	"testing"

	"jadekettle/internal/core/plan"
)

// TestSchedulesAreReadBack reads files by hand, and leaves those to their files
// that say more than a schedule can.
func TestSchedulesAreReadBack(t *testing.T) {
	for text, want := range map[string]string{
		"# at night\n15 3 * * *\ttidelog  tide-logger --send-rest\n": `{"run":"tide-logger --send-rest",` +
			`"schedule":"15 3 * * *","user":"tidelog"}`,
		"@daily root chart-press  --all": `{"run":"chart-press  --all","schedule":"@daily","user":"root"}`,
		"MAILTO=\"\"\nPATH = '/bin:/sbin'\nX='a\n* * * * * root date +\\%H\n": `{"environment":{"MAILTO":"",` +
			`"PATH":"/bin:/sbin","X":"'a"},"run":"date +%H","schedule":"* * * * *","user":"root"}`,
		"@reboot root A=b chart-press\n": `{"run":"A=b chart-press","schedule":"@reboot","user":"root"}`,

		"* * * * * root mail maren%It is high tide%\n": "", // the rest is what mail reads
		"* * * * * root true\nMAILTO=maren\n":          "", // too late for the line above
		"* * * * * root true\n@daily root true\n":      "",
		"* * * * * root\n":                             "",
		"*\u00a0* * * * root true":                     "",
		"*\f*\f*\f*\f*\froot\ftrue\n":                  "",
		"@daily\n":                                     "",
		"@daily root true\r@daily root sh\n":           "", // more lines to some, and declared by none
		"MAILTO=maren\n":                               "",
		"":                                             "",
	} {
		attrs, ok := parsed(text)
		got := ""
		if ok {
			data, err := json.Marshal(attrs)
			if err != nil {
				t.Fatal(err)
			}
			got = string(data)
		}
		if got != want {
			t.Errorf("%q is read as %s, want %s", text, got, want)
		}
	}
}

// FuzzSchedules holds whatever is in a file of schedules: what is read of it and
// can be declared says, once it is written, the same again.
func FuzzSchedules(f *testing.F) {
	for _, text := range []string{"15 3 * * * tidelog tide-logger\n", "X=1\n@daily root a\\%b\\\\%c\n", "\"a\"=b\n",
		"* * * * * root a%b\n", "*\u00a0* * * * root true", "@ a b\n", "A==\nB=\"\n@x y z\n"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		attrs, ok := parsed(text)
		if !ok {
			return
		}
		if _, err := check("", attrs); err != nil {
			return // it is said that it cannot be declared
		}
		written := content(plan.Task{Attrs: attrs})
		if again, ok := parsed(written); !ok || !reflect.DeepEqual(attrs, again) {
			t.Errorf("%q is read as %v, written as %q, and that read as %v, %v", text, attrs, written, again, ok)
		}
	})
}

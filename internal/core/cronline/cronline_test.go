package cronline

import (
	"fmt"
	"testing"

	"github.com/robfig/cron/v3"
)

func TestPlain(t *testing.T) {
	for text, want := range map[string]string{
		"0 0 * * 7":       "0 0 * * 0",
		"0 0 * * 5-7":     "0 0 * * 5,6,0",
		"0 0 * * 1,7":     "0 0 * * 1,0",
		"0 0 * * 0-7":     "0 0 * * 0,1,2,3,4,5,6",
		"0 0 * * 1-7/3":   "0 0 * * 1,4,0",
		"7 7 7 7 mon-fri": "7 7 7 7 mon-fri",
		"@daily":          "@daily",
		"1,,2 0 * * *":    "error",
		"1 0 * * ,2":      "error",
		"0 0 * * 8":       "0 0 * * 8",
		"0 0 * * 7-9":     "0 0 * * 7-9",
	} {
		got, err := Plain(text)
		if err != nil {
			got = "error"
		}
		if got != want {
			t.Errorf("%s becomes %s, want %s", text, got, want)
		}
		_, wrong := cron.ParseStandard(got)
		if want := text == "0 0 * * 8" || text == "0 0 * * 7-9" || got == "error"; (wrong != nil) != want {
			t.Errorf("%s: %v", fmt.Sprint(got), wrong)
		}
	}
}

// Package cronline reads cron lines as crontab(5) has them, for a parser that knows less.
package cronline

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"jadekettle/internal/core/problem"
)

// Plain gives a cron line in the words of the parser, which does not know that 7 is Sunday too.
// A comma with nothing on one side, which the parser passes over, is an error.
func Plain(text string) (string, error) {
	fields := strings.Fields(text)
	if len(fields) != 5 { // a word such as @daily, or what the parser has words for
		return text, nil
	}
	for i, f := range fields {
		if slices.Contains(strings.Split(f, ","), "") {
			return "", problem.Errorf("%q has a misplaced comma", f).
				Remedy("separate the numbers with single commas")
		}
		if i == 4 && strings.Contains(f, "7") {
			fields[i] = weekdays(f)
		}
	}
	return strings.Join(fields, " "), nil
}

// weekdays writes days of the week with 0 for 7. What it cannot read it leaves to the parser.
func weekdays(field string) string {
	var out []string
	for _, item := range strings.Split(field, ",") {
		span, step, stepped := strings.Cut(item, "/")
		from, to, ranged := strings.Cut(span, "-")
		if !ranged {
			to = from
		}
		first, err1 := strconv.Atoi(from)
		last, err2 := strconv.Atoi(to)
		by := 1
		var err3 error
		if stepped {
			by, err3 = strconv.Atoi(step)
		}
		if err1 != nil || err2 != nil || err3 != nil || by < 1 || last != 7 || first > last || first < 0 {
			out = append(out, item)
			continue
		}
		for d := first; d <= last; d += by {
			if day := fmt.Sprint(d % 7); !slices.Contains(out, day) {
				out = append(out, day)
			}
		}
	}
	return strings.Join(out, ",")
}

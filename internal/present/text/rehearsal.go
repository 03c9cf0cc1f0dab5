package text

import (
	"fmt"
	"io"

	"jadekettle/internal/fleet/rehearse"
)

// Rehearsed prints a line for each host, and what is not as expected in full.
func Rehearsed(w io.Writer, src *Sources, width int, cases []rehearse.Case, failed int) {
	var rows [][]string
	var broken []rehearse.Case
	at := map[string]int{}
	good, conditions := map[string]int{}, [2]int{}
	wrong := map[string]int{}
	for _, c := range cases {
		key := c.File + "\x00" + c.Host
		if c.Failure != "" {
			broken = append(broken, c)
		}
		if c.File == "" {
			conditions[0]++
			if c.Failure != "" {
				conditions[1]++
			}
			continue
		}
		if _, there := at[key]; !there {
			at[key] = len(rows)
			rows = append(rows, []string{c.File, c.Host, ""})
		}
		if c.Failure == "" {
			good[key]++
		} else {
			wrong[key]++
		}
	}
	for key, i := range at {
		rows[i][2] = fmt.Sprintf("%d passed", good[key])
		if wrong[key] > 0 {
			rows[i][2] += fmt.Sprintf(", %d failed", wrong[key])
		}
	}
	if conditions[0] > 0 {
		text := fmt.Sprintf("%d covered both ways", conditions[0]-conditions[1])
		if conditions[1] > 0 {
			text += fmt.Sprintf(", %d not", conditions[1])
		}
		rows = append(rows, []string{"conditions", "", text})
	}
	Table(w, append([][]string{{"file", "host", "result"}}, rows...), nil)
	for _, c := range broken {
		head := c.Name
		if c.Host != "" {
			head = c.Host + ": " + c.Name
		}
		fmt.Fprintf(w, "\n%s%s\n", Paint(Loud, Line(c.Place.String()+": ")),
			Paint(Bad, Line(head)))
		src.Excerpt(w, c.Place)
		fmt.Fprint(w, Wrap(Block(c.Failure), "        ", width))
	}
	fmt.Fprintln(w)
	if failed == 0 {
		fmt.Fprintf(w, "%s passed\n", Count(len(cases), "case"))
		return
	}
	fmt.Fprintf(w, "%s, %d failed\n", Count(len(cases), "case"), failed)
}

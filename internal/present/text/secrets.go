package text

import (
	"fmt"
	"io"

	"jadekettle/internal/app/secrets"
	"jadekettle/internal/core/problem"
)

// Sealed tells who can read which sealed file.
func Sealed(w io.Writer, list []secrets.Access) {
	for _, a := range list {
		you := "you can read it"
		if a.Err != nil {
			you = "you cannot read it: " + problem.From(a.Err).What
		}
		fmt.Fprintf(w, "%s  %s\n", Paint(Loud, a.File), you)
		for _, r := range a.Recipients {
			fmt.Fprintf(w, "    %s\n", r)
		}
		if a.SealedFor != len(a.Recipients) {
			fmt.Fprintf(w, "    %s\n", Paint(Bad, fmt.Sprintf("sealed for %d, the settings name %d: run "+
				"`jadekettle secret reseal`",
				a.SealedFor, len(a.Recipients))))
		}
	}
	if len(list) == 0 {
		fmt.Fprintln(w, "nothing is sealed in this project")
	}
}

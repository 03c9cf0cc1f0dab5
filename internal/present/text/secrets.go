package text

import (
	"fmt"
	"io"

	"jadekettle/internal/app/secrets"
	"jadekettle/internal/core/problem"
)

// Encrypted shows who can read which encrypted file.
func Encrypted(w io.Writer, list []secrets.Access) {
	for _, a := range list {
		you := "you can decrypt it"
		if a.Err != nil {
			you = "you cannot decrypt it: " + problem.From(a.Err).What
		}
		fmt.Fprintf(w, "%s  %s\n", Paint(Loud, a.File), you)
		for _, r := range a.Recipients {
			fmt.Fprintf(w, "    %s\n", r)
		}
		if a.EncryptedFor != len(a.Recipients) {
			fmt.Fprintf(w, "    %s\n", Paint(Bad, fmt.Sprintf("encrypted for %s, but the settings have %d: "+
				"run `jadekettle secret rekey`", Count(a.EncryptedFor, "recipient"), len(a.Recipients))))
		}
	}
	if len(list) == 0 {
		fmt.Fprintln(w, "this project has no encrypted files")
	}
}

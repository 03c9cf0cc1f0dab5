package text

import (
	"fmt"
	"io"

	"jadekettle/internal/core/advice"
	"jadekettle/internal/core/value"
)

// Advice prints what is worth a look, each with its line.
func Advice(w io.Writer, src *Sources, width int, list []advice.Piece) {
	count := map[string]int{}
	for _, ad := range list {
		if ad.Silenced {
			continue
		}
		if count[ad.Code]++; count[ad.Code] > maxAlike {
			continue
		}
		fmt.Fprint(w, Head(ad.Place, Plain, Line("warning "+ad.Code+": "+ad.What), width))
		src.Excerpt(w, ad.Place)
		if ad.Do != "" {
			fmt.Fprint(w, Wrap(Line(ad.Do), "        ", width))
		}
		fmt.Fprintln(w)
	}
	for _, code := range value.Keys(count) {
		if more := count[code] - maxAlike; more > 0 {
			fmt.Fprintf(w, "warning %s: %d more; `jadekettle lint --output json` lists all\n\n", code, more)
		}
	}
}

// maxAlike is how many pieces of advice of one code are shown.
const maxAlike = 50

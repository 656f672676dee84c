package finding_test

import (
	"fmt"

	"tressik.example/internal/core/finding"
)

// A remedy is data: commands that run as printed, and blanks that only a person can fill.
func ExampleRemedy_Blanks() {
	fix := finding.Run("trust", "change", "nightlog@ridge", "--owner", finding.BlankMail)
	for _, b := range fix.Blanks() {
		fmt.Println(b.Name, "is", b.Where)
	}
	// Output: MAIL is a mail address: of whoever answers for it on that side
}

package remote

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// Quote makes any text but one with a NUL a single word of the shell (POSIX.1-2024, XCU 2.2). A quote in it is put between
// double quotes: every shell reads that alike.
func Quote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'"'"'`) + "'" }

// Export is the line of a script that sets a variable to any text but one with a NUL, and exports it. What not every shell
// reads as it is written, carriage returns and bytes that are no UTF-8, is written by printf; what follows it keeps line
// breaks at its end, which the shell would take away.
func Export(name, value string) string {
	if !strings.ContainsRune(value, '\r') && utf8.ValidString(value) {
		return "export " + name + "=" + Quote(value) + "\n"
	}
	var b strings.Builder
	fmt.Fprintf(&b, "export %s=\"$(printf '", name)
	for i := range len(value) {
		fmt.Fprintf(&b, `\%03o`, value[i])
	}
	fmt.Fprintf(&b, ".')\"; %s=\"${%s%%.}\"\n", name, name)
	return b.String()
}

package alias

import (
	"strings"

	"envask/internal/redact/chars"
)

// phoneParts cuts what says that a country code follows off the beginning of a telephone number.
func phoneParts(text string) (international, number string) {
	if rest, ok := strings.CutPrefix(text, "+"); ok {
		return "+", rest
	}
	if rest, ok := strings.CutPrefix(text, "00"); ok {
		return "00", rest
	}
	return "", text
}

// AsPhone writes an alias of a telephone number like its original, with as many digits and the signs between them, if that leaves room for
// it.
func AsPhone(alias, original string) string {
	head, number := phoneParts(original)
	serial := strings.TrimLeft(strings.TrimPrefix(alias, phoneHead), "0")
	digits := len(chars.OnlyDigits(number))
	if len(phoneHead)+len(serial) > digits || !isPhoneText(number) {
		return head + alias
	}
	return head + inShape(phoneHead+strings.Repeat("0", digits-len(phoneHead)-len(serial))+serial, number)
}

// isPhoneText reports whether a number has no other signs than those of telephone numbers.
func isPhoneText(number string) bool { return strings.Trim(number, "0123456789 ().-/") == "" }

// phoneAlias is the number of an alias as the table has it, whatever the digits between its head and its serial number.
func phoneAlias(digits string) (alias string, ok bool) {
	serial, ok := strings.CutPrefix(digits, phoneHead)
	if serial = strings.TrimLeft(serial, "0"); !ok || serial == "" {
		return "", false
	}
	return phoneHead + strings.Repeat("0", max(0, phoneSerial-len(serial))) + serial, true
}

// phoneSerial is how many digits the serial number of an alias has at least.
const phoneSerial = 6

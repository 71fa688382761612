package vault

// WorkFactor is what a passphrase costs to guess, for tests to look at and to spare themselves.
func WorkFactor(n int) (was int) {
	was, workFactor = workFactor, n
	return was
}

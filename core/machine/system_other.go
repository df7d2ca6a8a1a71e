//go:build !linux && !darwin && !windows

package machine

// caveat is what the files do not tell of this system: what the files say is what programs use.
const caveat = ""

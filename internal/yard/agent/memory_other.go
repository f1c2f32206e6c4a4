//go:build !linux

package agent

// limitMemory leaves it to watchMemory.
func limitMemory() {}

//go:build !linux

package image

func largePages([]byte) {}

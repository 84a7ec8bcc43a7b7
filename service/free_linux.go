package service

import "syscall"

// freeIn returns how many bytes an ordinary user can still write on the disk of a folder, and how many it has; known is
// false where that cannot be found out.
func freeIn(dir string) (free, all int64, known bool) {
	var disk syscall.Statfs_t
	if err := syscall.Statfs(dir, &disk); err != nil || disk.Blocks == 0 {
		return 0, 0, false
	}
	return int64(disk.Bavail) * disk.Bsize, int64(disk.Blocks) * disk.Bsize, true
}

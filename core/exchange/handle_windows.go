package exchange

import "syscall"

func handle(fd uintptr) syscall.Handle { return syscall.Handle(fd) }

package mariadb

import "runtime"

// waitOn starts the server and stays with it on one thread: the kernel sends the
// parent-death signal when the thread that started the child ends, not the
// process.
func waitOn(s *Server, started chan<- error) {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	if err := s.cmd.Start(); err != nil {
		started <- err
		return
	}
	started <- nil
	err := s.cmd.Wait()
	s.exited <- err
	close(s.exited)
}

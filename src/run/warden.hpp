// The warden: a small process beside the server that ends every script should the server itself be killed hard.
//
// It is told of each process group that begins and ends through a pipe. When the pipe closes without a word, the server
// is gone, and the warden kills the groups that have not ended. It belongs to no terminal and is nobody's child.
#pragma once

#include <sys/types.h>

namespace porter::run {

/// Makes the warden. To be called once, early, before the first thread is started and the first run begins. Without one
/// (it could not be made, or was not wanted) the notes below do nothing.
void start_warden();

/// Tells the warden that the process group `id` has begun. From any thread.
void warden_note_begin(pid_t id);
/// Tells the warden that the group has ended; to be called before its number can pass to another.
void warden_note_end(pid_t id);

}  // namespace porter::run

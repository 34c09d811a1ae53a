"""Computing processes for a worker, there at once: forked from a process that has everything loaded already.

Loading takes seconds; a worker whose computation was cancelled, or crashed, must not wait for that again. The spawner is
forked from the worker before that has threads or connections to the database, and keeps no more than one computing
process. All of them end with their worker.

Over the socket goes a byte for each wish: FORK, with the child's end of a connection beside it; END, which is answered
when the computing process is gone.
"""

import ctypes
import logging
import os
import select
import signal
import socket
from multiprocessing import Pipe
from multiprocessing.connection import Connection

log = logging.getLogger("otrevo.worker")
FORK, END = b"f", b"e"
PR_SET_PDEATHSIG = 1
LEISURE_S = 10.0  # without a wish, after which there is time for something that takes long


def die_with(parent):
    """End this process when its parent does, whose number is `parent`."""
    ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGKILL)
    if os.getppid() != parent:
        os._exit(0)


class Spawner:
    """Forks the process that forks. compute(connection): what a computing process does until its connection closes;
    at_leisure(): what the process that forks does once, when nobody has asked it for anything for LEISURE_S.

    Make it while the worker has one thread and no connection to anything.
    """

    def __init__(self, compute, at_leisure=lambda: None):
        self.socket, theirs = socket.socketpair()
        worker, spawner = os.getpid(), os.fork()
        if spawner == 0:
            self.socket.close()
            try:
                die_with(worker)
                _serve(theirs, compute, at_leisure)
            finally:
                os._exit(0)  # never back into the worker's code
        theirs.close()
        # the socket alone would not tell: a computing process that has only just begun holds the other end as well
        self.process = os.pidfd_open(spawner)

    def fork(self):
        """Connection to a new computing process; the one before it is ended. Raises OSError when the spawner is gone."""
        ours, theirs = Pipe()
        with theirs:
            socket.send_fds(self.socket, [FORK], [theirs.fileno()])
        return ours

    def is_gone(self):
        """Whether the spawner has ended."""
        return bool(select.select([self.process], [], [], 0)[0])

    def end(self):
        """End the computing process, and return when it is gone. Raises OSError when the spawner is gone."""
        self.socket.sendall(END)
        ready, _, _ = select.select([self.socket, self.process], [], [])
        if self.socket not in ready or not self.socket.recv(1):
            raise ConnectionResetError


def _serve(requests, compute, at_leisure):
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the worker decides when it ends
    spawner, child, wait_s = os.getpid(), None, LEISURE_S
    while True:
        if not select.select([requests], [], [], wait_s)[0]:
            at_leisure()
            wait_s = None
            continue
        wish, handles, _, _ = socket.recv_fds(requests, 1, 1)
        if child is not None:
            os.kill(child, signal.SIGKILL)
            os.waitpid(child, 0)
            child = None
        if wish == FORK:
            child = os.fork()
            if child == 0:
                requests.close()
                die_with(spawner)
                try:
                    compute(Connection(handles[0]))
                except Exception:
                    log.exception("a computing process ended by itself")
                os._exit(0)
            os.close(handles[0])
        elif wish == END:
            requests.sendall(END)
        else:
            return

"""What the cameras saw while recording, in a journal: rows of centroids, which frames are done, and which nobody delivered."""

from bisect import bisect_left

import numpy as np

from otrevo.core.formats.centroids import from_rows

EVERY = 60  # frames between two marks
WIDTH = 5  # numbers in a row of core.formats.centroids


class KeptFrames:
    """Frames of a journal; where it holds some already, they go on after them. done: the frame after the last one that is kept.

    marks: how many rows come before every EVERY-th frame; counted as they come, so that nobody waits for it at the cut.
    missing: [[first frame, frame after the last], ...] of which no picture came, from any camera.
    """

    def __init__(self, journal):
        self.rows, self.index, self.gaps = (
            journal.rows("cameras", WIDTH),
            journal.pairs("cameras"),
            journal.pairs("missing"),
        )
        known = self.index.read().astype(np.int64)
        known = known[known[:, 1] <= len(self.rows)]  # the last ones may not have got there
        self.index.cut(len(known))
        self.ends, self.counts = known[:, 0].tolist(), known[:, 1].tolist()
        self.rows.cut(self.counts[-1] if self.counts else 0)
        self.missing = self.gaps.read().astype(np.int64).tolist()
        self.marks = [self._count_rows(f) for f in range(0, self.done + 1, EVERY)]
        self.full = False

    @property
    def done(self):
        return self.ends[-1] if self.ends else 0

    def add(self, piece, first, last, there):
        """Keep the Centroids of frames [first, last); there: numbers of those of which any picture came."""
        edges = [first - 1, *sorted(there), last]
        lost = [[a + 1, b] for a, b in zip(edges, edges[1:], strict=False) if b - a > 1]
        before = len(self.rows)
        try:
            self.rows.add(piece.rows())
            self.index.add([[last, len(self.rows)]])
            self.full = False
        except OSError:  # no room: these frames are lost, and it is said
            self.rows.cut(before)
            self.full, lost = True, [[first, last]]
        else:
            self.ends.append(last)
            self.counts.append(len(self.rows))
            new = np.arange(len(self.marks) * EVERY, last + 1, EVERY)
            self.marks += (before + np.searchsorted(piece.frame, new)).tolist()
        for run in lost:
            self._miss(run)

    def _miss(self, run):
        if self.missing and self.missing[-1][1] == run[0]:
            self.missing[-1][1] = run[1]
        else:
            self.missing.append(run)
        try:
            self.gaps.add([run])
        except OSError:
            self.full = True

    def rows_before(self, frame):
        """How many rows are of frames before `frame`; that of every EVERY-th is known."""
        mark, left = divmod(frame, EVERY)
        return self.marks[mark] if not left and mark < len(self.marks) else self._count_rows(frame)

    def _count_rows(self, frame):
        at = bisect_left(self.ends, frame)
        if at == len(self.ends):
            return len(self.rows)
        start = self.counts[at - 1] if at else 0
        return start + int((self.rows.read(start, self.counts[at])[:, 0] < frame).sum())

    def missing_before(self, frame):
        """`missing` of the frames before `frame`, with those at the end that never came."""
        runs = [[a, min(b, frame)] for a, b in _merged(self.missing) if a < frame]
        if self.done < frame:
            runs = _merged([*runs, [self.done, frame]])
        return runs

    def centroids(self):
        """All of it as Centroids."""
        return from_rows(self.rows.read())


def _merged(runs):
    out = []
    for first, end in sorted(runs):
        if out and first <= out[-1][1]:
            out[-1][1] = max(out[-1][1], end)
        else:
            out.append([first, end])
    return out

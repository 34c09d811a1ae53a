"""The bones of a FileSkeleton as a tree to look through: children, lengths, how far each branch reaches, what names say."""

import math
from functools import cached_property

import numpy as np

from otrevo.core.bone_names import read_names

SPARE = ("twist", "ik", "end", "tail", "hair", "cloth", "weapon", "helper")
NO_SKIN = 1e-6


class BoneTree:
    """positions (B, 3) in the file's unit; size: the skeleton's extent; said: [Said] of every bone.

    spare (B,): bones whose name says that they are no joint of a body; ends (B,): leaves that only say where the bone
    before them ends.
    """

    def __init__(self, skeleton):
        self.skeleton, self.count = skeleton, len(skeleton.names)
        self.positions, self.parents = skeleton.positions, skeleton.parents
        self._places, self._ways = self.positions.tolist(), {}  # lengths and ways down are asked for over and over
        self.children = [[] for _ in range(self.count)]
        for b, parent in enumerate(self.parents):
            if parent >= 0:
                self.children[parent].append(b)
        self.said = read_names(skeleton.names)
        tips = skeleton.ends[np.isfinite(skeleton.ends).all(axis=1)]
        self.size = float(np.ptp(np.concatenate([self.positions, tips]), axis=0).max())
        self.spare = self._spare()
        leaf = np.array([not c for c in self.children])
        skinless = np.isfinite(skeleton.held) & (skeleton.held < NO_SKIN)
        self.ends = leaf & np.array(
            [
                s.names("end") or (bare and not s.names("eye", "jaw"))
                for s, bare in zip(self.said, skinless, strict=True)
            ]
        )

    def _spare(self):
        """Spare by its own name; below hair, a tail or a weapon all is; a twist bone that carries other bones is a joint's."""
        spare = np.array([s.names(*SPARE) for s in self.said])
        for b in range(self.count):
            parent = self.parents[b]
            if parent >= 0 and spare[parent] and self.said[parent].names("tail", "hair", "cloth", "weapon"):
                spare[b] = True
        for b in range(self.count):
            if spare[b] and not self.said[b].names("tail", "hair", "cloth", "weapon", "end"):
                spare[b] = (
                    all(spare[x] or not self.children[x] for x in self.below(b)[1:]) if self.children[b] else True
                )
        return spare

    def length(self, a, b):
        """Distance from bone a to bone b."""
        return math.dist(self._places[a], self._places[b])

    def below(self, bone):
        """All bones of the branch that begins with `bone`, itself first."""
        out, stack = [], [bone]
        while stack:
            out.append(stack.pop())
            stack.extend(self.children[out[-1]])
        return out

    def up_to(self, bone, ancestor):
        """The path from below `ancestor` down to `bone`, or None when it is no ancestor."""
        out = []
        while bone != ancestor:
            if bone < 0:
                return None
            out.append(bone)
            bone = int(self.parents[bone])
        return out[::-1]

    @cached_property
    def reach(self):
        """Length (B,) of the longest way down from each bone, spare branches left out."""
        out = np.zeros(self.count)
        tip = np.linalg.norm(self.skeleton.ends - self.positions, axis=1)
        for b in range(self.count - 1, -1, -1):
            ways = [self.length(b, c) + out[c] for c in self.children[b] if not self.spare[c] or self.ends[c]]
            out[b] = max(ways, default=tip[b] if np.isfinite(tip[b]) else 0.0)
        return out

    def way_down(self, bone):
        """Bones of the longest way down from `bone`, itself first, with the name's word on what is not meant."""
        if bone not in self._ways:
            out = [bone]
            while True:
                ways = [c for c in self.children[out[-1]] if not self.spare[c]] or [
                    c for c in self.children[out[-1]] if self.ends[c]
                ]
                if not ways:
                    break
                out.append(max(ways, key=lambda c: (self.length(out[-1], c) + self.reach[c], -c)))
            self._ways[bone] = tuple(out)
        return self._ways[bone]

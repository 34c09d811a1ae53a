import type { Levels } from '../../api/tracks';
import type { Schemas } from '../../api/client';
import type { Proposal } from '../../lanes/draw';
import type { FailedTrack } from '../../queries/take';
import type { Lane } from '../../lanes/lanes';
import type { Theme } from '../../theme';
import type { Setting } from '../passes';
import type { SnagGroup } from '../snags';

/** How far the limbs of the character that is looked at reach for their places: its settings that may change over time. */
export type Reach = {
  name: string;
  limbs: { id: string; words: string; value: Setting }[];
  busy: boolean;
  onChange: (id: string, points: [number, number][]) => void;
};

/** What the lanes of a take are made from. */
export type LaneArgs = {
  /** Streams and tracks by name; those that are not there or not loaded yet are left out. */
  tracks: Partial<Record<string, Levels>>;
  devices: Schemas['DeviceOut'][];
  names: string[];
  groups: SnagGroup[];
  selectedSnag: number;
  marker: number | null;
  /** Whether the matrix shows a row for every marker with its name. */
  open: boolean;
  theme: Theme;
  /** What a mend would make of the marker's path. */
  proposal: Proposal | null;
  hasOptical: boolean;
  duration: number;
  reach: Reach | null;
  notLoaded: FailedTrack[];
  onOpen: () => void;
  onMarker: (marker: number | null) => void;
  onSnag: (group: number, part: number) => void;
};

/** One kind of lane: the lanes it has for a take, none without data. */
export type LaneKind = (args: LaneArgs) => Lane[];

import type { ReactNode } from 'react';
import type { TakeOut } from '../../api/client';
import type { BenchState } from '../state';

/** Where a panel stands: strips across the top or the foot, or a share of the main part, its side or below it. */
export type Side = 'top' | 'main' | 'side' | 'below' | 'foot';

/**
 * A panel of the Bench. name: as a sentence begins that says it cannot be shown; isFor: takes it has nothing to say of do without it;
 * tab: its words where it shares its place with the other panels of its side that have one.
 */
export type BenchPanel = { id: string; name: string; side: Side; Show: (props: { bench: BenchState }) => ReactNode; isFor?: (data: TakeOut) => boolean; tab?: string };

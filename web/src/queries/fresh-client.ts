import { QueryClient, type InvalidateOptions, type InvalidateQueryFilters, type Query } from '@tanstack/react-query';

/**
 * A QueryClient for which "out of date" holds for first answers too. One that is still on its way when something changes may have been
 * put together before the change; the library would take it for the newest one. Here it is asked for once more.
 */
export class FreshClient extends QueryClient {
  private readonly outOfDate = new Set<Query>();

  override async invalidateQueries(filters: InvalidateQueryFilters = {}, options: InvalidateOptions = {}): Promise<void> {
    const onTheirWay = this.getQueryCache().findAll({ ...filters, fetchStatus: 'fetching' }).filter((q) => q.state.data === undefined && !this.outOfDate.has(q));
    await Promise.all([super.invalidateQueries(filters, options), ...onTheirWay.map((query) => this.askAgain(query))]);
  }

  private async askAgain(query: Query) {
    this.outOfDate.add(query);
    await query.promise?.catch(() => undefined); // an error is shown by whoever asked
    this.outOfDate.delete(query);
    await super.invalidateQueries({ queryKey: query.queryKey, exact: true });
  }
}

/** Queries and changes of wall. A key begins with the resource's name, so that a change refreshes all that shows it. */
import {infiniteQueryOptions, useInfiniteQuery} from '@tanstack/react-query';
import {api, unwrap, type Schemas} from '../../api/client';
import {type Subject} from '../readings/queries';

type Wall = Schemas['Wall'];

export const ORDERS: {value: 'name' | 'worst' | 'delivered'; label: string}[] = [
  {value: 'name', label: 'Name'},
  {value: 'worst', label: 'Lowest reading'},
  {value: 'delivered', label: 'Most mail'},
];

export type WallQuery = {
  days: number;
  tenant?: string;
  subject?: Subject;
  last?: string;
  search?: string;
  condition?: Wall['rows'][number]['cells'][number]['condition'];
  order?: (typeof ORDERS)[number]['value'];
};

const wallQuery = ({last, search, condition, order, ...query}: WallQuery) =>
  infiniteQueryOptions({
    queryKey: ['wall', {...query, last, search, condition, order}],
    queryFn: ({pageParam, signal}) =>
      unwrap(
        api.GET('/api/v1/wall', {
          params: {
            query: {
              ...query,
              last: last || undefined,
              order: order === 'name' ? undefined : order,
              search: search || undefined,
              condition: condition ?? undefined,
              cursor: pageParam,
            },
          },
          signal,
        }),
      ),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (page: Wall) => page.next ?? undefined,
    placeholderData: (before) => before, // the wall stays while a search is typed
    refetchInterval: 60_000,
    select: ({pages}) => ({...pages[0]!, rows: pages.flatMap((page) => page.rows)}),
  });

/** The wall, all pages that were opened as one. */
export const useWall = (query: WallQuery) => useInfiniteQuery(wallQuery(query));

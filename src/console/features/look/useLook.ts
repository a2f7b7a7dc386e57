import { useInfiniteQuery, type InfiniteData, type UseInfiniteQueryResult } from '@tanstack/react-query';
import type { Look, Overview } from '../../../client/desk.ts';
import { gate } from '../../api/client.ts';

/** Stands in the choice of identities for the caller without one; no identity can have this name. */
export const VISITOR = '(visitor)';

/** Stands there for looking without an identity: every record and field, which takes an unlock. */
export const EVERYTHING = '(everything)';

export type LookResult = UseInfiniteQueryResult<InfiniteData<Look, string | null>>;

/** A collection through one identity, page after page, by label so that two lists can be compared. */
export function useLook(
  collection: Overview['collections'][number],
  identity: string,
  where: string,
): LookResult {
  const references = collection.fields.filter((field) => field.reference !== null).map((field) => field.name);
  return useInfiniteQuery({
    queryKey: ['look', collection.name, identity, where],
    queryFn: ({ pageParam }) => {
      const page = {
        limit: 50,
        ...(collection.label === null ? {} : { order: collection.label }),
        ...(references.length === 0 ? {} : { include: references }),
        ...(where === '' ? {} : { where }),
        ...(pageParam === null ? {} : { after: pageParam }),
      };
      return identity === EVERYTHING
        ? gate.lookAtAll(collection.name, page)
        : gate.look(collection.name, identity === VISITOR ? null : identity, { ...page, rights: true });
    },
    initialPageParam: null as string | null,
    getNextPageParam: (page) => page.next,
  });
}

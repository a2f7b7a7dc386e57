import { useCallback, useLayoutEffect, useMemo, useRef } from 'react';
import { useLocation, useNavigate } from 'react-router';

/** What is looked at: it stands in the fragment of the address, which is sent to nobody and written into no log. */
export interface Place {
  readonly as: readonly string[];
  /** The place among them of the one in focus. */
  readonly focus: number;
  readonly where: string;
  readonly onlyChanged: boolean;
  readonly system: boolean;
}

export function usePlace(first: readonly string[]): [Place, (change: Partial<Place>) => void] {
  const { hash, pathname, search } = useLocation();
  const navigate = useNavigate();
  const place = useMemo(() => read(hash, first), [hash, first]);
  // Those who may change it are not drawn anew each time that it has changed.
  const latest = useRef(place);
  useLayoutEffect(() => {
    latest.current = place;
  }, [place]);
  const change = useCallback(
    (part: Partial<Place>) =>
      void navigate({ pathname, search, hash: written({ ...latest.current, ...part }) }, { replace: true }),
    [navigate, pathname, search],
  );
  return [place, change];
}

function read(hash: string, first: readonly string[]): Place {
  const given = new URLSearchParams(hash.slice(1));
  const named =
    given
      .get('with')
      ?.split(',')
      .filter((name) => name !== '') ?? [];
  const as = sameAs([...new Set(named.length === 0 ? first : named)].slice(0, 5));
  return {
    as,
    focus: Math.max(0, as.indexOf(given.get('focus') ?? '')),
    where: given.get('where') ?? '',
    onlyChanged: given.get('only') === 'changed',
    system: given.get('system') === 'shown',
  };
}

/** The very list of before where it names the same: who is told of it is not drawn anew. */
function sameAs(as: readonly string[]): readonly string[] {
  if (as.join() !== before.join()) before = as;
  return before;
}
let before: readonly string[] = [];

export function written({ as, focus, where, onlyChanged, system }: Place): string {
  const said = new URLSearchParams();
  said.set('with', as.join(','));
  const chosen = as[focus];
  if (chosen !== undefined && focus > 0) said.set('focus', chosen);
  if (where !== '') said.set('where', where);
  if (onlyChanged) said.set('only', 'changed');
  if (system) said.set('system', 'shown');
  return `#${said.toString()}`;
}

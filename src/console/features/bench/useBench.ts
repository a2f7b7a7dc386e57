import { keepPreviousData, useInfiniteQuery, useQuery } from '@tanstack/react-query';
import { useEffect, useRef, useState } from 'react';
import type {
  BenchCounts,
  BenchDocument,
  BenchPage,
  Preview,
  Progress,
  TrialReport,
} from '../../../client/desk.ts';
import { gate } from '../../api/client.ts';
import { isChanged, type Working } from '../../working/working.ts';
import type { Text } from '../../working/texts.ts';

/** Milliseconds without a change after which what is written is tried. */
const PAUSE = 200;

/** Records that are asked for at once. */
const PAGE = 100;

/** Milliseconds after which trials and preview follow: the records come first. */
const LATER = 700;

export interface BenchQuestion {
  readonly collection: string;
  readonly as: readonly string[];
  readonly where: string;
  readonly onlyChanged: boolean;
}

/** What is to be tried: the texts as they were when somebody last paused; undefined where they are those in force. */
export interface Trying {
  readonly texts: readonly Text[] | undefined;
  readonly revision: number;
}

/** The texts once nothing has changed for a while: typing waits for nothing, and asks for nothing. */
export function useTrying(now: Working): Trying {
  const [trying, setTrying] = useState<Trying>(() => tryingOf(now));
  useEffect(() => {
    if (now.revision === trying.revision) return undefined;
    const timer = setTimeout(() => setTrying(tryingOf(now)), PAUSE);
    return () => clearTimeout(timer);
  }, [now, trying.revision]);
  return trying;
}

function tryingOf(now: Working): Trying {
  return { texts: isChanged(now) ? now.texts : undefined, revision: now.revision };
}

function filesOf({ texts }: Trying) {
  return texts === undefined ? {} : { files: texts.map(({ name, text }) => ({ name, text })) };
}

/** The records, page by page. The picture of before stands until the new one is whole; where a draft has errors, the last that had none. */
export function useRecords({ collection, as, where, onlyChanged }: BenchQuestion, trying: Trying) {
  const query = useInfiniteQuery({
    queryKey: ['bench', collection, as, where, onlyChanged, trying.revision],
    // Whom the marks are of comes with them: until others are there, those of before stand, of whom they are.
    queryFn: async ({ pageParam, signal }) => ({
      as,
      ...(await gate.bench(
        collection,
        {
          as: [...as],
          limit: PAGE,
          ...filesOf(trying),
          ...(where === '' ? {} : { where }),
          ...(onlyChanged ? { changed: true } : {}),
          ...(pageParam === null ? {} : { after: pageParam }),
        },
        signal,
      )),
    }),
    enabled: as.length > 0,
    initialPageParam: null as string | null,
    getNextPageParam: (page) => page.page?.next ?? null,
    placeholderData: keepPreviousData,
    refetchOnWindowFocus: false,
  });
  const [good, setGood] = useState<readonly SoundPage[] | null>(null);
  const pages = query.data?.pages;
  const fresh = pages?.every(isSound) === true ? pages : null;
  if (fresh !== null && !query.isPlaceholderData && good !== fresh) setGood(fresh);
  return { query, found: pages?.[0], pages: fresh ?? good ?? undefined };
}

type Told = BenchDocument & { readonly as: readonly string[] };
type SoundPage = Told & { readonly page: BenchPage };

function isSound(document: Told): document is SoundPage {
  return document.page !== null;
}

/** The same in numbers, asked for at the same time. Of a draft with errors there are none: then those of before stand. */
export function useCounts({ collection, as }: BenchQuestion, trying: Trying) {
  return useQuery({
    queryKey: ['bench counts', collection, as, trying.revision],
    queryFn: async ({ signal }) => ({
      as,
      ...(await gate.benchCounts(collection, { as: [...as], ...filesOf(trying) }, signal)),
    }),
    enabled: as.length > 0,
    placeholderData: keepPreviousData,
    refetchOnWindowFocus: false,
  });
}

/** Counts, and whom they are of. */
export type CountsOf = BenchCounts & { readonly as: readonly string[] };

export interface Effect {
  readonly trials: TrialReport | null;
  readonly running: Progress | null;
  readonly preview: Preview | null;
  readonly error: unknown;
  /** Of which texts it is told. */
  readonly revision: number;
}

const nothing: Effect = { trials: null, running: null, preview: null, error: null, revision: -1 };

/** Trials, and what the draft does for everybody: some time after the records, one after the other, and only of the last texts. */
export function useEffectOnAll(trying: Trying, isReady: boolean): Effect {
  const [effect, setEffect] = useState<Effect>(nothing);
  const latest = useRef(trying.revision);
  const isBusy = useRef(false);
  useEffect(() => {
    const { revision } = trying;
    latest.current = revision;
    if (!isReady || trying.texts === undefined) return undefined;
    const timer = setTimeout(() => void begin(), LATER);
    return () => clearTimeout(timer);

    async function begin(): Promise<void> {
      // One run at a time: the service has others to serve.
      while (isBusy.current) await new Promise((resolve) => setTimeout(resolve, 100));
      if (latest.current !== revision) return;
      isBusy.current = true;
      const tell = (part: Partial<Effect>) => {
        if (latest.current === revision) setEffect((before) => ({ ...before, ...part, revision }));
      };
      try {
        tell({ running: { done: 0, total: 1, doing: 'trials' }, error: null });
        tell({ trials: await gate.trials(filesOf(trying), (running) => tell({ running })), running: null });
        if (latest.current !== revision) return;
        tell({ preview: await gate.preview(filesOf(trying)) });
      } catch (error) {
        tell({ error, running: null });
      } finally {
        isBusy.current = false;
      }
    }
  }, [trying, isReady]);
  // What is told of other texts is not told of these.
  return effect.revision === trying.revision ? effect : nothing;
}

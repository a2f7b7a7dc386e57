import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import NativeSelect from '@mui/material/NativeSelect';
import Skeleton from '@mui/material/Skeleton';
import Typography from '@mui/material/Typography';
import { useQuery, useQueryClient } from '@tanstack/react-query';
import { useCallback, useDeferredValue, useEffect, useLayoutEffect, useMemo, useState } from 'react';
import { Link, Navigate, useNavigate, useParams } from 'react-router';
import { positionAt } from '../../../core/language/source.ts';
import type { Overview, SentenceEdit } from '../../../client/desk.ts';
import { describeError, gate } from '../../api/client.ts';
import { useSession, useUnlocked } from '../../api/session.ts';
import { ErrorNote } from '../../components/ErrorNote.tsx';
import { isNow } from '../../components/marks.tsx';
import { Waiting } from '../../components/Waiting.tsx';
import { useDensity } from '../../components/settings.ts';
import { cardsOf, letsOf } from '../../working/cards.ts';
import { withRolesHeld, withValueHeld } from '../../working/declare.ts';
import { withWords, written as written_ } from '../../working/form.ts';
import { quoted } from '../../../core/language/quoted.ts';
import { replaced, textOf } from '../../working/texts.ts';
import { withDraft } from '../../working/overview.ts';
import { WithWorking } from '../../working/WithWorking.tsx';
import { working, type Working } from '../../working/working.ts';
import { Why } from '../why/WhyPanel.tsx';
import { DraftBar } from './DraftBar.tsx';
import { EffectBar } from './EffectBar.tsx';
import { MarkLegend } from './MarkLegend.tsx';
import { PinnedBar } from './PinnedBar.tsx';
import { usePlace, written } from './place.ts';
import { usePointing } from './pointing.ts';
import { ReadingLine } from './ReadingLine.tsx';
import { RecordGrid, type Spot } from './RecordGrid.tsx';
import { SentencePane } from './SentencePane.tsx';
import { TryPanel } from './TryPanel.tsx';
import { useCounts, useEffectOnAll, useRecords, useTrying } from './useBench.ts';
import { nameOf } from './values.ts';
import { WhereField } from './WhereField.tsx';
import { WholeText } from './WholeText.tsx';
import { wordsFor } from './words.ts';

/** What these rules do to these records, for these people, while they are written. */
export function BenchPage() {
  const overview = useQuery({ queryKey: ['overview'], queryFn: () => gate.overview() });
  return (
    <WithWorking>
      {(now) => {
        if (overview.data !== undefined) return <BenchAt overview={overview.data} now={now} />;
        if (!overview.isError) return <Waiting />;
        return (
          <Box component="main" sx={{ m: 4, maxWidth: 640 }}>
            <ErrorNote error={overview.error} retry={() => void overview.refetch()} />
          </Box>
        );
      }}
    </WithWorking>
  );
}

function BenchAt({ overview: inForce, now }: { overview: Overview; now: Working }) {
  // What is read out of the texts may come a moment later than what is typed.
  const texts = useDeferredValue(now.texts);
  const overview = useMemo(() => withDraft(inForce, texts), [inForce, texts]);
  const { collection: named } = useParams();
  const first = useMemo(() => firstPinned(overview), [overview]);
  const collections = useMemo(() => overview.collections.map(({ name }) => name), [overview]);
  const owned =
    overview.collections.find((each) => each.owners.length > 0 && each.name !== 'people')?.name ??
    collections[0] ??
    'people';
  if (named === undefined)
    return <Navigate to={{ pathname: `/bench/${owned}`, hash: window.location.hash }} replace />;
  if (!collections.includes(named)) return <NoCollection name={named} others={collections} />;
  return <Bench key={named} overview={overview} now={now} collection={named} first={first} />;
}

/** An address of a collection that is neither in force nor in the draft: renamed, set aside, or never made. */
function NoCollection({ name, others }: { name: string; others: readonly string[] }) {
  const made = others.filter((each) => each !== 'people');
  return (
    <Box component="main" sx={{ m: 4, maxWidth: 640, display: 'grid', gap: 1.5, justifyItems: 'start' }}>
      <Typography variant="h1">There is no collection {name}</Typography>
      <Typography>
        It is neither in force nor in the draft.{' '}
        {made.length === 0
          ? 'None has been made yet: begin with its fields, and whose a record is.'
          : 'It may have another name by now, or have been set aside.'}
      </Typography>
      <Box sx={{ display: 'flex', gap: 1, flexWrap: 'wrap' }}>
        <Button variant="contained" component={Link} to="/collections">
          To the collections
        </Button>
        {made.slice(0, 3).map((each) => (
          <Button key={each} component={Link} to={`/bench/${each}`}>
            {each}
          </Button>
        ))}
      </Box>
    </Box>
  );
}

function Bench({
  overview,
  now,
  collection,
  first,
}: {
  overview: Overview;
  now: Working;
  collection: string;
  first: readonly string[];
}) {
  const session = useSession();
  const isUnlocked = useUnlocked();
  const [density] = useDensity();
  const navigate = useNavigate();
  const [place, change] = usePlace(first);
  const { as, where, onlyChanged } = place;
  const focus = Math.min(place.focus, as.length - 1);
  const [asked, setAsked] = useState<{ kind: 'why' | 'try'; spot: Spot | null } | null>(null);
  const ask = useCallback(
    (next: Spot) =>
      setAsked((before) => ({ kind: before?.spot === null ? 'why' : (before?.kind ?? 'why'), spot: next })),
    [],
  );
  const pointing = usePointing();
  const [pointed, setPointed] = useState<{ file: string; line: number } | null>(null);
  const [wanted, setWanted] = useState<{ text: string } | null>(null);
  const [whole, setWhole] = useState<{ file: string; at: { at: number } | null } | null>(null);
  const level = session.data?.level;
  const canWrite = level === 'author' || level === 'publisher' || level === 'manager';

  const question = useMemo(
    () => ({ collection, as, where, onlyChanged }),
    [collection, as, where, onlyChanged],
  );
  const trying = useTrying(now);
  const { query, found, pages } = useRecords(question, trying);
  const isSound = found !== undefined && found.page !== null && !query.isPlaceholderData;
  const counts = useCounts(question, trying);
  const effect = useEffectOnAll(trying, isSound);

  useUndoKeys(canWrite);
  const queries = useQueryClient();
  const seen = found?.version;
  useEffect(() => {
    // Somebody else has published meanwhile.
    if (seen !== undefined && seen !== overview.version)
      void queries.invalidateQueries({ queryKey: ['overview'] });
  }, [seen, overview.version, queries]);

  const page = pages?.[0]?.page;
  // What is shown is told of those whom it is of, also while others are asked about.
  const shownAs = pages?.[0]?.as ?? as;
  const shownFocus = Math.max(0, shownAs.indexOf(as[focus] ?? ''));
  const records = useMemo(() => pages?.flatMap((each) => each.page.records) ?? [], [pages]);
  const labels = useMemo(() => mergedLabels(pages?.map((each) => each.page.labels) ?? []), [pages]);
  const fields = useMemo(
    () => page?.fields.filter(({ name, system }) => name !== page.label && (place.system || !system)) ?? [],
    [page, place.system],
  );
  const roles = useMemo(() => overview.roles.map(({ name }) => name), [overview]);
  const texts = useDeferredValue(now.texts);
  const lets = useMemo(() => letsOf(texts).map(({ name }) => name), [texts]);
  const words = useMemo(
    () => wordsFor(overview, collection, roles, lets),
    [overview, collection, roles, lets],
  );
  const offer = useMemo(
    () => ({
      fields: page?.fields ?? [],
      roles,
      actions:
        overview.collections.find(({ name }) => name === collection)?.actions.map(({ name }) => name) ?? [],
      me: overview.collections.find(({ name }) => name === 'people')?.fields ?? [],
      lets,
      isOwned: (overview.collections.find(({ name }) => name === collection)?.owners.length ?? 0) > 0,
    }),
    [page, roles, lets, overview, collection],
  );
  useLayoutEffect(
    () => pointing.show({ pages: pages?.map((each) => each.page) ?? [], focus: shownFocus }),
    [pointing, pages, shownFocus],
  );
  const { fetchNextPage, hasNextPage, isFetchingNextPage } = query;
  // A key or a click is answered at once, and the table follows: of all that is here it takes longest to draw.
  const table = useDeferredValue(
    useMemo(
      () => ({
        overview,
        label: `Records of ${collection}, as ${shownAs[shownFocus] ?? ''} sees them`,
        labelField: page?.label ?? null,
        fields,
        records,
        labels,
        hasActions: page?.hasActions ?? false,
        as: shownAs,
        focus: shownFocus,
        more: hasNextPage,
      }),
      [overview, collection, page, fields, records, labels, shownAs, shownFocus, hasNextPage],
    ),
  );
  const focusOn = useCallback(
    (index: number) => change({ focus: Math.max(0, as.indexOf(shownAs[index] ?? '')) }),
    [change, as, shownAs],
  );
  const showWhole = useCallback(
    (file: string, at: number | null) => setWhole({ file, at: at === null ? null : { at } }),
    [],
  );
  const applyWhere = useCallback((value: string) => change({ where: value }), [change]);
  const more = useCallback(() => {
    if (hasNextPage && !isFetchingNextPage) void fetchNextPage();
  }, [fetchNextPage, hasNextPage, isFetchingNextPage]);
  const definition = overview.collections.find(({ name }) => name === collection);
  const total = counts.data?.total;
  const isOfTexts = trying.texts !== undefined;
  const files = useMemo(
    () => trying.texts?.map(({ name, text }) => ({ name, text })) ?? null,
    [trying.texts],
  );

  const putIn = (
    { file, line, column, operation, identity, field }: SentenceEdit,
    words: readonly string[],
  ) => {
    if (identity !== undefined) {
      const put =
        field === undefined
          ? withRolesHeld(now.texts, identity, words)
          : withValueHeld(now.texts, identity, field, words[0]!);
      working.change(put, `remedy ${identity}`);
      return;
    }
    const source = { name: file, text: textOf(now.texts, file) };
    const card = cardsOf(now.texts, collection, null).find((each) => {
      if (each.file !== file) return false;
      const at = positionAt(source, each.start);
      return at.line === line && at.column === column;
    });
    const put = card === undefined ? null : withWords(card.text, operation, words);
    // It was written in meanwhile, or is no sentence that a form can show: whoever writes does it there.
    if (put !== null) working.change(replaced(now.texts, card!, put), `remedy ${file}:${line}`);
    setPointed({ file, line });
  };

  return (
    <Box
      component="main"
      sx={{
        display: 'grid',
        gridTemplateColumns: {
          xs: `${whole === null ? '300px' : 'minmax(0, 1fr)'} minmax(0, 1fr)${asked === null ? '' : ' 300px'}`,
          lg: `${whole === null ? '380px' : 'minmax(0, 1fr)'} minmax(0, 1fr)${asked === null ? '' : ' 350px'}`,
        },
        height: '100%',
        minHeight: 0,
      }}
    >
      <Box
        sx={{
          display: 'flex',
          flexDirection: 'column',
          gap: 0.5,
          minHeight: 0,
          p: 1.25,
          borderRight: 1,
          borderColor: 'divider',
        }}
      >
        <Box>
          <Box sx={{ display: 'flex', alignItems: 'baseline', gap: 1 }}>
            <Typography variant="h1" noWrap sx={{ flex: 1 }}>
              {definition?.title ?? collection}
            </Typography>
            <NativeSelect
              value={collection}
              inputProps={{ 'aria-label': 'Collection' }}
              onChange={(event) =>
                void navigate({
                  pathname: `/bench/${event.target.value}`,
                  hash: written({ ...place, where: '' }),
                })
              }
              sx={{ fontSize: '0.8rem' }}
            >
              {definition === undefined && <option>{collection}</option>}
              {overview.collections.map(({ name }) => (
                <option key={name}>{name}</option>
              ))}
            </NativeSelect>
          </Box>
          <Typography sx={{ fontSize: '0.75rem', color: 'text.secondary' }}>
            {total === undefined ? '… records' : `${total} records`} ·{' '}
            {definition === undefined
              ? 'not in force yet'
              : definition.owners.length > 0
                ? `owned by ${definition.owners.join(', ')}`
                : 'owned by nobody'}
          </Typography>
        </Box>
        <DraftBar now={now} inForce={overview.version ?? 0} canWrite={canWrite} />
        {whole === null ? (
          <SentencePane
            now={now}
            collection={collection}
            counts={counts.data}
            found={found}
            words={words}
            offer={offer}
            canWrite={canWrite}
            pointed={pointed}
            pointing={pointing}
            wanted={wanted}
            onWholeText={showWhole}
          />
        ) : (
          <WholeText
            now={now}
            file={whole.file}
            at={whole.at}
            errors={found?.errors ?? []}
            words={words}
            canWrite={canWrite}
            onFile={(file) => setWhole({ file, at: null })}
            onBack={() => setWhole(null)}
          />
        )}
      </Box>
      <Box
        sx={{
          display: 'flex',
          flexDirection: 'column',
          gap: 0.5,
          minHeight: 0,
          minWidth: 0,
          px: 1.25,
          pt: 0.5,
        }}
      >
        <PinnedBar
          overview={overview}
          as={as}
          focus={focus}
          counts={counts.data}
          notCounted={counts.isError ? describeError(counts.error).detail : null}
          onFocus={(index) => change({ focus: index })}
          onChange={(next, at) => change({ as: next, focus: at })}
        />
        <Box sx={{ display: 'flex', gap: '4px 12px', alignItems: 'center', flexWrap: 'wrap' }}>
          <MarkLegend />
          <Box sx={{ display: 'flex', gap: 0.5, ml: 'auto', alignItems: 'center', flexWrap: 'wrap' }}>
            <WhereField key={where} value={where} offer={offer} onApply={applyWhere} />
            <Toggle
              on={onlyChanged}
              disabled={!isOfTexts && !onlyChanged}
              onClick={() => change({ onlyChanged: !onlyChanged })}
            >
              Only what changed
            </Toggle>
            <Toggle on={place.system} onClick={() => change({ system: !place.system })}>
              System fields
            </Toggle>
            {canWrite && definition !== undefined && (
              <Button size="small" onClick={() => setAsked({ kind: 'try', spot: null })}>
                Create…
              </Button>
            )}
            <Button
              size="small"
              component={Link}
              sx={{ whiteSpace: 'nowrap' }}
              to={`/look/${collection}?left=${encodeURIComponent(as[0] ?? '')}&right=${encodeURIComponent(as[1] ?? as[0] ?? '')}`}
            >
              Side by side
            </Button>
          </Box>
        </Box>
        {query.isError && <ErrorNote error={query.error} retry={() => void query.refetch()} />}
        {page === undefined ? (
          query.isError ? null : found === undefined ? (
            <Skeleton variant="rounded" sx={{ flex: 1 }} aria-label="Loading records" />
          ) : (
            <Typography sx={{ flex: 1, p: 2, color: 'text.secondary' }}>
              The draft cannot be tried as it is: records are shown once its errors are gone.
            </Typography>
          )
        ) : records.length === 0 ? (
          <Empty onlyChanged={onlyChanged} where={where} as={as} collection={collection} />
        ) : table.records.length === 0 ? (
          // They are here, and about to be drawn.
          <Skeleton variant="rounded" sx={{ flex: 1 }} aria-label="Loading records" />
        ) : (
          <RecordGrid
            {...table}
            isUnlocked={isUnlocked}
            density={density}
            onMore={more}
            onPoint={pointing.at}
            onAsk={ask}
            onFocus={focusOn}
          />
        )}
        <ReadingLine
          pointing={pointing}
          as={shownAs}
          focus={shownFocus}
          notCovered={page?.notCovered ?? []}
        />
        <EffectBar
          effect={effect}
          found={found}
          isDraft={isOfTexts}
          isTrying={query.isFetching || counts.isFetching || trying.revision !== now.revision}
        />
      </Box>
      {asked !== null && (
        <Box
          component="aside"
          aria-label={asked.kind === 'why' ? 'Why' : 'Try'}
          sx={{ borderLeft: 1, borderColor: 'divider', overflow: 'auto', minHeight: 0 }}
        >
          <Box sx={{ display: 'flex', gap: 0.5, px: 2, pt: 1 }}>
            {asked.spot !== null &&
              (['why', 'try'] as const).map((kind) => (
                <Toggle key={kind} on={asked.kind === kind} onClick={() => setAsked({ ...asked, kind })}>
                  {kind === 'why' ? 'Why' : 'Try'}
                </Toggle>
              ))}
            {canWrite && asked.spot !== null && !isNow(seesOf(asked.spot, shownFocus)) && (
              <Button
                size="small"
                onClick={() => {
                  setWhole(null);
                  setWanted({
                    text: letSee(overview, as[focus] ?? 'visitor', asked.spot!, page?.label ?? null),
                  });
                }}
              >
                Let {as[focus]} see this
              </Button>
            )}
            <Button size="small" sx={{ ml: 'auto' }} onClick={() => setAsked(null)}>
              Close
            </Button>
          </Box>
          {asked.kind === 'why' && asked.spot !== null ? (
            <Why
              key={`${as[focus]} ${asked.spot.record.id} ${asked.spot.field}`}
              subject={{
                as: as[focus] ?? 'visitor',
                collection,
                record: asked.spot.record.id,
                label: nameOf(asked.spot.record),
                field: asked.spot.field,
              }}
              isSystem={page?.fields.find(({ name }) => name === asked.spot?.field)?.system === true}
              draft={files === null ? null : { files, revision: trying.revision }}
              onSentence={setPointed}
              onEdit={canWrite ? putIn : undefined}
            />
          ) : (
            definition !== undefined && (
              <TryPanel
                key={`${as[focus]} ${asked.spot?.record.id} ${asked.spot?.field}`}
                overview={overview}
                collection={definition}
                as={as}
                focus={focus}
                record={asked.spot?.record ?? null}
                field={asked.spot?.field ?? null}
                files={files}
                canWrite={canWrite}
              />
            )
          )}
        </Box>
      )}
    </Box>
  );
}

function seesOf({ record, field }: Spot, focus: number): string | undefined {
  return field === null ? record.reads[focus] : record.sees[field]?.[focus];
}

/** A sentence that opens this to whoever is like them, for this record alone: to be made wider by whoever writes. */
function letSee(
  { identities }: Overview,
  who: string,
  { record, field }: Spot,
  label: string | null,
): string {
  const [role] = identities.find(({ name }) => name === who)?.roles ?? [];
  const audience = who === 'visitor' ? 'visitors' : (role?.replace(/ until .*/, '') ?? 'people');
  const fields = [...new Set([label, field].filter((each) => each !== null))];
  const when =
    label === null || record.label === null ? '' : ` when ${written_(label)} = ${quoted(record.label)}`;
  return `${audience} may read (${fields.length === 0 ? 'all' : fields.map(written_).join(', ')})${when}`;
}

function Toggle({
  on,
  disabled = false,
  onClick,
  children,
}: {
  on: boolean;
  disabled?: boolean;
  onClick: () => void;
  children: string;
}) {
  return (
    <Button
      size="small"
      aria-pressed={on}
      variant={on ? 'contained' : 'outlined'}
      disabled={disabled}
      onClick={onClick}
      sx={{ py: 0.125, whiteSpace: 'nowrap' }}
    >
      {children}
    </Button>
  );
}

function Empty({
  onlyChanged,
  where,
  as,
  collection,
}: {
  onlyChanged: boolean;
  where: string;
  as: readonly string[];
  collection: string;
}) {
  const who = as.length === 1 ? `${as[0]} reads` : `none of ${as.join(', ')} reads`;
  return (
    <Box
      sx={{ flex: 1, border: 1, borderColor: 'divider', borderRadius: 1, p: 3, bgcolor: 'background.paper' }}
    >
      <Typography variant="h2">
        {onlyChanged
          ? 'The draft changes nothing for those pinned'
          : where !== ''
            ? 'The filter leaves nothing over'
            : as.length === 1
              ? `${who} no record of ${collection}`
              : `${who} a record of ${collection}`}
      </Typography>
      <Typography sx={{ color: 'text.secondary', mt: 0.5 }}>
        {onlyChanged
          ? 'On the records that are there. Pin somebody else, or look at the effect on everybody below.'
          : where !== ''
            ? 'Each of them asks it through their own masks. Change it, or clear it.'
            : 'Either there are none, or no sentence opens one to them. Add a sentence, or pin somebody whom one speaks of.'}
      </Typography>
    </Box>
  );
}

/** One identity for each set of roles first, then others, and the visitor. */
function firstPinned({ identities }: Overview): readonly string[] {
  const kinds = new Map<string, string>();
  const now = new Date().toISOString();
  for (const { name, roles, active } of identities) {
    const held = roles.filter((role) => (role.split(' until ')[1] ?? '9999') > now);
    const key = held.map((role) => role.replace(/ until .*/, '')).join(',');
    if (active && key !== '' && !kinds.has(key)) kinds.set(key, name);
  }
  const others = identities.flatMap(({ name, active }) =>
    active && ![...kinds.values()].includes(name) ? [name] : [],
  );
  return [...[...kinds.values(), ...others].slice(0, 4), 'visitor'];
}

function mergedLabels(
  all: readonly Record<string, Record<string, string>>[],
): Record<string, Record<string, string>> {
  const merged: Record<string, Record<string, string>> = {};
  for (const labels of all)
    for (const [field, of] of Object.entries(labels)) merged[field] = { ...merged[field], ...of };
  return merged;
}

/** Ctrl+Z and Ctrl+Shift+Z, wherever nothing else takes them. */
function useUndoKeys(canWrite: boolean): void {
  useEffect(() => {
    if (!canWrite) return undefined;
    const onKey = (event: KeyboardEvent) => {
      if (!(event.ctrlKey || event.metaKey) || event.key.toLowerCase() !== 'z') return;
      const target = event.target as HTMLElement;
      if (target.closest('input, textarea, [contenteditable="true"]') !== null) return;
      event.preventDefault();
      if (event.shiftKey) working.redo();
      else working.undo();
    };
    window.addEventListener('keydown', onKey);
    return () => window.removeEventListener('keydown', onKey);
  }, [canWrite]);
}

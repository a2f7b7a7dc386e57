import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Dialog from '@mui/material/Dialog';
import InputBase from '@mui/material/InputBase';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { useDeferredValue, useEffect, useState, type KeyboardEvent } from 'react';
import { useLocation, useNavigate } from 'react-router';
import { gate } from '../api/client.ts';

interface Place {
  readonly name: string;
  readonly kind: string;
  readonly to: string;
}

/** Found records and people at most, each. */
const MOST = 6;

/** Goes to every page, collection, person and record by name: Ctrl and K from anywhere. */
export function Palette({ pages }: { pages: readonly { readonly to: string; readonly name: string }[] }) {
  const [isOpen, setOpen] = useState(false);
  useEffect(() => {
    const onKey = (event: globalThis.KeyboardEvent) => {
      if (!(event.ctrlKey || event.metaKey) || event.key.toLowerCase() !== 'k') return;
      event.preventDefault();
      setOpen(true);
    };
    window.addEventListener('keydown', onKey);
    return () => window.removeEventListener('keydown', onKey);
  }, []);
  return (
    <>
      <Button
        size="small"
        color="inherit"
        variant="outlined"
        aria-keyshortcuts="Control+K"
        title="Go to a page, a collection, a person or a record (Ctrl+K)"
        onClick={() => setOpen(true)}
        sx={{ fontWeight: 400, opacity: 0.9, whiteSpace: 'nowrap', flexShrink: 0 }}
      >
        Go to…
      </Button>
      {isOpen && <Search pages={pages} onClose={() => setOpen(false)} />}
    </>
  );
}

function Search({
  pages,
  onClose,
}: {
  pages: readonly { readonly to: string; readonly name: string }[];
  onClose: () => void;
}) {
  const navigate = useNavigate();
  const [typed, setTyped] = useState('');
  const [chosen, setChosen] = useState(0);
  const asked = useDeferredValue(typed.trim());
  const places = usePlaces(pages, asked);
  const at = Math.min(chosen, places.length - 1);
  const go = (place: Place | undefined) => {
    if (place === undefined) return;
    onClose();
    void navigate(place.to);
  };
  const onKey = (event: KeyboardEvent) => {
    const step = event.key === 'ArrowDown' ? 1 : event.key === 'ArrowUp' ? -1 : 0;
    if (step !== 0) {
      event.preventDefault();
      setChosen(Math.max(0, Math.min(places.length - 1, at + step)));
    } else if (event.key === 'Enter') {
      event.preventDefault();
      go(places[at]);
    }
  };
  return (
    <Dialog
      open
      onClose={onClose}
      fullWidth
      maxWidth="sm"
      aria-label="Go to"
      slotProps={{ paper: { sx: { alignSelf: 'start', mt: 6 } } }}
    >
      <InputBase
        autoFocus
        value={typed}
        placeholder="Page, collection, person, record"
        onChange={(event) => {
          setTyped(event.target.value);
          setChosen(0);
        }}
        onKeyDown={onKey}
        inputProps={{
          'aria-label': 'Go to',
          role: 'combobox',
          'aria-expanded': true,
          'aria-controls': 'palette-places',
          'aria-activedescendant': places.length === 0 ? undefined : `place-${at}`,
          spellCheck: false,
        }}
        sx={{ px: 2, py: 1.25, fontSize: '1rem', borderBottom: 1, borderColor: 'divider' }}
      />
      <Box
        component="ul"
        role="listbox"
        id="palette-places"
        aria-label="Places"
        sx={{ m: 0, p: 0.5, listStyle: 'none', maxHeight: 380, overflow: 'auto' }}
      >
        {places.map((place, index) => (
          <Box
            key={`${place.kind} ${place.to}`}
            component="li"
            role="option"
            id={`place-${index}`}
            aria-selected={index === at}
            onClick={() => go(place)}
            onMouseMove={() => setChosen(index)}
            sx={{
              display: 'flex',
              gap: 2,
              px: 1.5,
              py: 0.5,
              borderRadius: 1,
              cursor: 'pointer',
              bgcolor:
                index === at
                  ? 'color-mix(in srgb, var(--mui-palette-secondary-main) 18%, transparent)'
                  : 'transparent',
            }}
          >
            <Typography noWrap sx={{ flex: 1, fontSize: '0.9rem' }}>
              <bdi>{place.name}</bdi>
            </Typography>
            <Typography sx={{ fontSize: '0.8rem', color: 'text.secondary' }}>{place.kind}</Typography>
          </Box>
        ))}
      </Box>
      {places.length === 0 && (
        <Typography sx={{ px: 2, py: 1, color: 'text.secondary' }}>
          Nothing is called so that can be seen from here.
        </Typography>
      )}
    </Dialog>
  );
}

/** Records are found as those who are pinned see them, of the collection that is looked at: nobody else’s are. */
function usePlaces(
  pages: readonly { readonly to: string; readonly name: string }[],
  asked: string,
): readonly Place[] {
  const { pathname, hash } = useLocation();
  const overview = useQuery({ queryKey: ['overview'], queryFn: () => gate.overview() });
  const named = /^\/(?:bench|look|collections)\/([a-z0-9_]+)/.exec(pathname)?.[1];
  const collection = overview.data?.collections.find(({ name }) => name === named);
  const pinned = new URLSearchParams(hash.slice(1)).get('with')?.split(',') ?? [];
  const label = collection?.label ?? null;
  const isAsked = asked.length >= 2;
  const people = useQuery({
    queryKey: ['palette people', asked],
    queryFn: () => gate.people({ kind: 'people', search: asked, limit: MOST }),
    enabled: isAsked,
  });
  const records = useQuery({
    queryKey: ['palette records', collection?.name, pinned.join(','), asked],
    queryFn: () =>
      gate.bench(collection!.name, {
        as: pinned,
        limit: MOST,
        where: `lower(${label}) contains ${JSON.stringify(asked.toLowerCase())}`,
      }),
    enabled: isAsked && collection !== undefined && label !== null && pinned.length > 0,
  });
  const fits = (name: string) => name.toLowerCase().includes(asked.toLowerCase());
  const found = records.data?.page?.records ?? [];
  return [
    ...pages.filter(({ name }) => fits(name)).map(({ to, name }) => ({ name, to, kind: 'page' })),
    ...(overview.data?.collections ?? [])
      .filter(({ name, title }) => fits(name) || (title !== null && fits(title)))
      .slice(0, 20)
      .map(({ name, title }) => ({
        name: title === null ? name : `${title} (${name})`,
        to: `/bench/${name}`,
        kind: 'collection',
      })),
    ...found.flatMap((record): Place[] =>
      record.label === null
        ? []
        : [
            {
              name: record.label,
              kind: `record of ${collection!.name}`,
              to: `/bench/${collection!.name}#${new URLSearchParams({ with: pinned.join(','), where: `${label} = ${JSON.stringify(record.label)}` }).toString()}`,
            },
          ],
    ),
    ...(people.data?.people ?? []).map(({ id, name, email }) => ({
      name: name ?? email ?? id,
      to: `/people/${id}`,
      kind: email === null || name === null ? 'person' : `person, ${email}`,
    })),
  ];
}

import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import CircularProgress from '@mui/material/CircularProgress';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, Navigate, useParams, useSearchParams } from 'react-router';
import type { Overview } from '../../../client/desk.ts';
import { gate } from '../../api/client.ts';
import { ErrorNote } from '../../components/ErrorNote.tsx';
import { WhyPanel, type WhySubject } from '../why/WhyPanel.tsx';
import { CollectionList } from './CollectionList.tsx';
import { FilterField } from './FilterField.tsx';
import { IdentityColumn } from './IdentityColumn.tsx';
import { Legend } from './Legend.tsx';
import { VISITOR, useLook } from './useLook.ts';

/** One collection through two identities, side by side. What is chosen stands in the address, so it can be sent on. */
export function LookPage() {
  const overview = useQuery({ queryKey: ['overview'], queryFn: () => gate.overview() });
  if (overview.isPending) {
    return <CircularProgress aria-label="Loading" sx={{ m: 6 }} />;
  }
  if (overview.isError) {
    return (
      <Box component="main" sx={{ m: 4, maxWidth: 640 }}>
        <ErrorNote error={overview.error} retry={() => void overview.refetch()} />
      </Box>
    );
  }
  if (overview.data.version === null) {
    return (
      <Box component="main" sx={{ m: 4, maxWidth: 640 }}>
        <Typography variant="h1">No rulebook is published yet</Typography>
        <Typography sx={{ mt: 1 }}>
          Everything is closed. Make a collection here, or publish a folder of .gate files at the command
          line: <code>firmgate publish FOLDER --yes</code>
        </Typography>
        <Button sx={{ mt: 1 }} variant="contained" component={Link} to="/collections">
          To the collections
        </Button>
      </Box>
    );
  }
  return <LookAt overview={overview.data} />;
}

function LookAt({ overview }: { overview: Overview }) {
  const { collection: name } = useParams();
  const [search, setSearch] = useSearchParams();
  const [pointed, setPointed] = useState<string | null>(null);
  const [asked, setAsked] = useState<WhySubject | null>(null);
  const owned =
    overview.collections.find((each) => each.owners.length > 0 && each.name !== 'people') ??
    overview.collections[0]!;
  const collection = overview.collections.find((each) => each.name === name);
  const names = overview.identities.map((identity) => identity.name);
  const left = search.get('left') ?? names[0] ?? VISITOR;
  const right = search.get('right') ?? names[1] ?? VISITOR;
  const where = search.get('where') ?? '';
  const leftLook = useLook(collection ?? owned, left, where);
  const rightLook = useLook(collection ?? owned, right, where);
  if (collection === undefined) return <Navigate to={`/look/${owned.name}`} replace />;

  const choose = (key: 'left' | 'right' | 'where', value: string) => {
    const next = new URLSearchParams(search);
    if (value === '') next.delete(key);
    else next.set(key, value);
    setSearch(next);
  };
  const shared = { overview, collection, pointed, onPoint: setPointed, onAsk: setAsked };
  return (
    <Box sx={{ display: 'grid', gridTemplateColumns: '168px minmax(0, 1fr)', height: '100%' }}>
      <CollectionList overview={overview} chosen={collection.name} />
      <Box component="main" sx={{ display: 'flex', flexDirection: 'column', gap: 1.5, p: 2, minHeight: 0 }}>
        <Box sx={{ display: 'flex', alignItems: 'flex-start', gap: 3 }}>
          <Box sx={{ flex: 1, minWidth: 0 }}>
            <Typography variant="h1">{collection.name}</Typography>
            <Typography sx={{ color: 'text.secondary', fontSize: '0.8rem' }}>
              {[
                collection.title,
                collection.owners.length > 0 ? `owned by ${collection.owners.join(', ')}` : 'owned by nobody',
              ]
                .filter((part) => part !== null)
                .join(' · ')}
            </Typography>
          </Box>
          <FilterField key={where} value={where} onApply={(value) => choose('where', value)} />
        </Box>
        <Legend />
        <Box
          sx={{
            display: 'grid',
            gridTemplateColumns: 'minmax(0, 1fr) minmax(0, 1fr)',
            gap: 1.5,
            flex: 1,
            minHeight: 0,
          }}
        >
          <IdentityColumn
            {...shared}
            side="left"
            identity={left}
            look={leftLook}
            other={rightLook}
            onChoose={(value) => choose('left', value)}
          />
          <IdentityColumn
            {...shared}
            side="right"
            identity={right}
            look={rightLook}
            other={leftLook}
            onChoose={(value) => choose('right', value)}
          />
        </Box>
      </Box>
      <WhyPanel subject={asked} collection={collection} onClose={() => setAsked(null)} />
    </Box>
  );
}

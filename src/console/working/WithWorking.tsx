import Box from '@mui/material/Box';
import { useQuery } from '@tanstack/react-query';
import type { ReactNode } from 'react';
import { gate } from '../api/client.ts';
import { useSession } from '../api/session.ts';
import { ErrorNote } from '../components/ErrorNote.tsx';
import { Waiting } from '../components/Waiting.tsx';
import type { Text } from './texts.ts';
import { useWorking, working, type Working } from './working.ts';

/** The texts of a version; before the first, one without a word. */
export async function textsOfVersion(version: number): Promise<readonly Text[]> {
  return version === 0 ? [{ name: 'rules.gate', text: '' }] : (await gate.version(version)).files;
}

/** Opens what this account is writing, or what is in force, once for all pages. */
export function WithWorking({ children }: { children: (now: Working, inForce: number) => ReactNode }) {
  const overview = useQuery({ queryKey: ['overview'], queryFn: () => gate.overview() });
  const session = useSession();
  const now = useWorking();
  const account = session.data?.name;
  const version = overview.data?.version;
  const opened = useQuery({
    queryKey: ['working', account],
    queryFn: async () => {
      const base = version ?? 0;
      const texts = await textsOfVersion(base);
      await working.open(account!, base, texts, textsOfVersion);
      return true;
    },
    enabled: account !== undefined && version !== undefined && now?.account !== account,
    refetchOnWindowFocus: false,
    staleTime: Infinity,
  });
  const follow = useQuery({
    queryKey: ['working follows', account, version, now?.base],
    queryFn: async () => {
      // Nothing is being written: what is in force now is looked at.
      working.begin(version ?? 0, await textsOfVersion(version ?? 0));
      return true;
    },
    enabled:
      now !== null &&
      now.account === account &&
      version !== undefined &&
      now.draft === null &&
      now.base !== (version ?? 0) &&
      now.texts === now.baseTexts,
    refetchOnWindowFocus: false,
  });
  const error = overview.error ?? opened.error ?? follow.error;
  // What is being written stays on the screen, whatever the service says.
  if (error !== null && (now === null || now.account !== account))
    return (
      <Box component="main" sx={{ m: 4, maxWidth: 640 }}>
        <ErrorNote error={error} retry={() => void Promise.all([overview.refetch(), opened.refetch()])} />
      </Box>
    );
  if (overview.data === undefined || now === null || now.account !== account) return <Waiting />;
  return children(now, overview.data.version ?? 0);
}

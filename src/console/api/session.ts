import { useQuery } from '@tanstack/react-query';
import { levels, type Level } from '../../client/schemas/staff.ts';
import { gate, isSignedOut } from './client.ts';

/** Who is signed in, at which level, and whether what is in force can be changed now. */
export function useSession() {
  return useQuery({
    queryKey: ['session'],
    queryFn: () => gate.session(),
    // Whoever is about to sign in keeps what they have typed when they come back to the window.
    refetchOnWindowFocus: ({ state }) => !isSignedOut(state.error),
    refetchOnReconnect: ({ state }) => !isSignedOut(state.error),
  });
}

/** Have they this level at least? Nobody knows before the answer is there. */
export function useHasLevel(level: Level): boolean | undefined {
  const { data } = useSession();
  return data === undefined ? undefined : levels.indexOf(data.level) >= levels.indexOf(level);
}

/** Can this person change what is in force at this moment? */
export function useUnlocked(): boolean {
  const { data } = useSession();
  return data !== undefined && data.unlock !== null;
}

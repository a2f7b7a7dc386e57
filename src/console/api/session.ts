import { useQuery } from '@tanstack/react-query';
import { levels, type Level } from '../../client/schemas/staff.ts';
import { gate } from './client.ts';

/** Who is signed in, at which level, and whether what is in force can be changed now. */
export function useSession() {
  return useQuery({ queryKey: ['session'], queryFn: () => gate.session() });
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

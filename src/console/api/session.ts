import { useQuery } from '@tanstack/react-query';
import { gate } from './client.ts';

/** Who is signed in, at which level, and whether what is in force can be changed now. */
export function useSession() {
  return useQuery({ queryKey: ['session'], queryFn: () => gate.session() });
}

/** Can this person change what is in force at this moment? */
export function useUnlocked(): boolean {
  const { data } = useSession();
  return data !== undefined && data.unlock !== null;
}

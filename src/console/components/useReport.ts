import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import type { Progress } from '../../client/desk.ts';

/** A report that takes a while: asked for by hand, with word of how far it is. */
export function useReport<T>(ask: (onProgress: (progress: Progress) => void) => Promise<T>) {
  const [progress, setProgress] = useState<Progress | null>(null);
  const report = useMutation({
    mutationFn: () => ask(setProgress),
    onMutate: () => setProgress(null),
  });
  return { ...report, progress };
}

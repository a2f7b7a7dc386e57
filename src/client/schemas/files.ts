import { z } from 'zod';

export const rulebookFilesSchema = z
  .strictObject({
    files: z
      .array(z.strictObject({ name: z.string().min(1).max(200), text: z.string() }))
      .min(1)
      .max(500),
  })
  .meta({ id: 'RulebookFiles', description: 'All .gate files of a rulebook' });

import { z } from 'zod';

export const groupSchema = z
  .object({
    id: z.uuid(),
    name: z.string(),
    members: z.int(),
    roles: z.array(z.string()).describe('That staff give to whoever is in it'),
  })
  .meta({ id: 'Group', description: 'A group that an identity provider keeps' });
export const groupsSchema = z.object({ groups: z.array(groupSchema) }).meta({ id: 'Groups' });
export const groupRolesSchema = z
  .strictObject({ roles: z.array(z.string().min(1).max(100)).max(50) })
  .meta({ id: 'GroupRoles', description: 'These roles and no others' });

export type GroupDocument = z.infer<typeof groupSchema>;

import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import CircularProgress from '@mui/material/CircularProgress';
import Drawer from '@mui/material/Drawer';
import ToggleButton from '@mui/material/ToggleButton';
import ToggleButtonGroup from '@mui/material/ToggleButtonGroup';
import Typography from '@mui/material/Typography';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import type { Overview, SentenceEdit, WhyRequest } from '../../../client/desk.ts';
import { gate } from '../../api/client.ts';
import { ErrorNote } from '../../components/ErrorNote.tsx';
import { WhyView } from './WhyView.tsx';

/** What somebody pointed at: a field of a record as one identity sees it; `field` null: the record. */
export interface WhySubject {
  readonly as: string;
  readonly collection: string;
  readonly record: string;
  readonly label: string;
  readonly field: string | null;
}

type Asked = 'read' | 'update' | 'delete';

/** Why an identity sees a cell or not, may change it or not: asked for the record as it is. */
export function WhyPanel({
  subject,
  collection,
  onClose,
}: {
  subject: WhySubject | null;
  collection: Overview['collections'][number];
  onClose: () => void;
}) {
  return (
    <Drawer
      anchor="right"
      open={subject !== null}
      onClose={onClose}
      slotProps={{ paper: { sx: { width: 560, maxWidth: '92vw' }, 'aria-label': 'Why' } }}
    >
      {subject !== null && (
        <Why
          key={`${subject.as} ${subject.record} ${subject.field}`}
          subject={subject}
          isSystem={collection.fields.find((each) => each.name === subject.field)?.system === true}
          onClose={onClose}
        />
      )}
    </Drawer>
  );
}

/** The question and its answer; `files`: by the rules of a draft, with what they are known by. */
export function Why({
  subject,
  isSystem: isFilledIn,
  draft = null,
  onSentence,
  onEdit,
  onClose,
}: {
  subject: WhySubject;
  isSystem: boolean;
  draft?: { readonly files: NonNullable<WhyRequest['files']>; readonly revision: number } | null;
  onSentence?: (place: { readonly file: string; readonly line: number }) => void;
  onEdit?: ((edit: SentenceEdit, words: readonly string[]) => void) | undefined;
  /** Null: whatever is around it closes it. */
  onClose?: () => void;
}) {
  const [asked, setAsked] = useState<Asked>('read');
  const { as, label, field } = subject;
  // A field that the service alone fills in is never supplied, so there is nothing to ask.
  const isSystem = field === null || isFilledIn;
  const why = useQuery({
    queryKey: ['why', as, asked, subject.collection, subject.record, field, draft?.revision ?? null],
    queryFn: () =>
      gate.why({ ...questionOf(subject, asked), ...(draft === null ? {} : { files: draft.files }) }),
    placeholderData: keepPreviousData,
  });
  return (
    <Box sx={{ p: 2.5, display: 'flex', flexDirection: 'column', gap: 1.5 }}>
      <Box sx={{ display: 'flex', alignItems: 'flex-start', gap: 2 }}>
        <Typography variant="h2" component="h2" sx={{ flex: 1 }}>
          Why {as}, {label}
          {field === null ? '' : `, ${field}`}
        </Typography>
        {onClose !== undefined && (
          <Button size="small" onClick={onClose}>
            Close
          </Button>
        )}
      </Box>
      <ToggleButtonGroup
        size="small"
        exclusive
        value={asked}
        aria-label="What is asked"
        onChange={(_, value: Asked | null) => value !== null && setAsked(value)}
      >
        <ToggleButton value="read">Read</ToggleButton>
        <ToggleButton value="update" disabled={isSystem}>
          Change
        </ToggleButton>
        <ToggleButton value="delete">Delete</ToggleButton>
      </ToggleButtonGroup>
      {why.isPending && <CircularProgress aria-label="Finding out why" size={28} />}
      {why.isError && <ErrorNote error={why.error} retry={() => void why.refetch()} />}
      {draft !== null && (
        <Typography sx={{ fontSize: '0.78rem', color: 'text.secondary' }}>
          By the draft. Values of records are shown after an unlock.
        </Typography>
      )}
      {why.data !== undefined && !why.isError && (
        <WhyView
          why={why.data}
          served={why.data.served}
          onEdit={onEdit}
          {...(onSentence === undefined ? {} : { onSentence })}
        />
      )}
    </Box>
  );
}

/** Whether a field may be changed is asked by taking its value away, which needs no new one to be thought of. */
function questionOf({ as, collection, record, field }: WhySubject, asked: Asked): WhyRequest {
  const about = { as, collection, record };
  if (asked === 'delete') return { ...about, operation: 'delete' };
  if (asked === 'update') return { ...about, operation: 'update', unchanged: [field!] };
  return { ...about, operation: 'read', ...(field === null ? {} : { fields: [field] }) };
}

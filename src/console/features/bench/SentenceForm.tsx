import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import NativeSelect from '@mui/material/NativeSelect';
import Typography from '@mui/material/Typography';
import { useId, useState, type ReactNode } from 'react';
import {
  conditionText,
  formOf,
  isUnary,
  rowOperators,
  withForm,
  type FormCondition,
  type FormOperation,
  type RowOperator,
  type SentenceForm as Form,
} from '../../working/form.ts';
import { quoted } from '../../../core/language/quoted.ts';

/** What a form of this collection can offer. */
export interface FormOffer {
  readonly fields: readonly { readonly name: string; readonly type: string; readonly system: boolean }[];
  readonly roles: readonly string[];
  readonly actions: readonly string[];
  /** Fields of the person who asks, with their types. */
  readonly me: readonly { readonly name: string; readonly type: string }[];
  readonly lets: readonly string[];
  readonly isOwned: boolean;
}

/** A sentence by ticking and choosing. Each change goes into the text at once; what no row can show stands here as its text. */
export function SentenceForm({
  text,
  offer,
  onChange,
}: {
  text: string;
  offer: FormOffer;
  onChange: (text: string) => void;
}) {
  const form = formOf(text);
  if (form === null)
    return (
      <Typography sx={{ fontSize: '0.78rem', color: 'text.secondary' }}>
        A form shows one sentence that can be read. Put the text right first.
      </Typography>
    );
  /** False where the text could not be read any more: then nothing is changed. */
  const put = (change: Partial<Form>): boolean => {
    const next = withForm(text, { ...form, ...change });
    if (formOf(next) === null) return false;
    onChange(next);
    return true;
  };
  const isFence = form.kind === 'fence';
  return (
    <Box sx={{ display: 'grid', gap: 0.75, fontSize: '0.78rem' }}>
      <Line name={isFence ? 'Nobody but' : 'Who'}>
        {[...(isFence ? [] : ['everybody', 'people', 'visitors']), ...offer.roles].map((who) => (
          <Tick
            key={who}
            on={form.who.includes(who)}
            onClick={() => put({ who: toggled(form.who, who, isFence ? 0 : 1) })}
          >
            {who}
          </Tick>
        ))}
      </Line>
      <Operations form={form} offer={offer} onChange={(operations) => put({ operations })} />
      <Line name={isFence ? 'Unless' : 'When'}>
        {form.condition === null ? (
          <Small onClick={() => put({ condition: firstRow(offer) })}>+ condition</Small>
        ) : (
          <Condition
            condition={form.condition}
            offer={offer}
            onChange={(condition) => put({ condition })}
            onRemove={() => put({ condition: null })}
          />
        )}
      </Line>
      {!isFence && (
        <Line name="Fills in">
          {form.stamps.map((stamp, index) => (
            <Box key={index} sx={{ display: 'flex', gap: 0.5, alignItems: 'center' }}>
              <NativeSelect
                value={stamp.field}
                inputProps={{ 'aria-label': 'Field that is filled in' }}
                onChange={(event) =>
                  put({ stamps: form.stamps.with(index, { ...stamp, field: event.target.value }) })
                }
                sx={selectStyles}
              >
                {offer.fields
                  .filter(({ system, name }) => !system || name === stamp.field)
                  .map(({ name }) => (
                    <option key={name}>{name}</option>
                  ))}
              </NativeSelect>
              =
              <Written
                label="Value that is filled in"
                value={stamp.value}
                offered={['me', 'now', 'today', 'none', ...offer.me.map(({ name }) => `me.${name}`)]}
                onChange={(value) => put({ stamps: form.stamps.with(index, { ...stamp, value }) })}
              />
              <Small
                label="Fill in no more"
                onClick={() => put({ stamps: form.stamps.filter((_, at) => at !== index) })}
              >
                ×
              </Small>
            </Box>
          ))}
          <Small
            onClick={() =>
              put({
                stamps: [
                  ...form.stamps,
                  {
                    field:
                      offer.fields.find(
                        ({ system, name }) => !system && !form.stamps.some(({ field }) => field === name),
                      )?.name ?? 'id',
                    value: 'me',
                  },
                ],
              })
            }
          >
            + value
          </Small>
        </Line>
      )}
      <Line name="Because">
        <Written
          label="Because"
          wide
          value={form.because ?? ''}
          offered={[]}
          onChange={(because) => put({ because: because === '' ? null : because })}
        />
      </Line>
    </Box>
  );
}

/** A condition by itself, such as a filter: by rows, and what no row can show as its text. */
export function ConditionForm({
  text,
  offer,
  onChange,
}: {
  text: string;
  offer: FormOffer;
  onChange: (text: string) => void;
}) {
  const before = 'people may read';
  const form = formOf(text.trim() === '' ? before : `${before} when ${text}`);
  if (form === null)
    return (
      <Typography sx={{ fontSize: '0.78rem', color: 'text.secondary' }}>
        Rows show what can be read: put the text right first.
      </Typography>
    );
  const put = (condition: FormCondition | null): boolean => {
    if (condition === null) {
      onChange('');
      return true;
    }
    const next = conditionText(condition);
    if (formOf(`${before} when ${next}`) === null) return false;
    onChange(next);
    return true;
  };
  return form.condition === null ? (
    <Small onClick={() => put(firstRow(offer))}>+ condition</Small>
  ) : (
    <Condition condition={form.condition} offer={offer} onChange={put} onRemove={() => put(null)} />
  );
}

function Operations({
  form,
  offer,
  onChange,
}: {
  form: Form;
  offer: FormOffer;
  onChange: (operations: readonly FormOperation[]) => boolean;
}) {
  const names = [
    'read',
    ...(form.kind === 'rule' ? ['create'] : []),
    'update',
    'delete',
    'share',
    ...offer.actions,
  ];
  const all = [...new Set([...names, ...form.operations.map(({ operation }) => operation)])];
  return (
    <>
      <Line name="May">
        {all.map((operation) => {
          const on = form.operations.some((each) => each.operation === operation);
          return (
            <Tick
              key={operation}
              on={on}
              onClick={() =>
                on
                  ? form.operations.length > 1 &&
                    onChange(form.operations.filter((each) => each.operation !== operation))
                  : onChange([
                      ...form.operations,
                      { operation, fields: takesFields(operation) ? { all: true, names: [] } : null },
                    ])
              }
            >
              {operation}
            </Tick>
          );
        })}
      </Line>
      {form.operations.map((each, index) =>
        !takesFields(each.operation) ? null : (
          <Line key={each.operation} name={each.operation}>
            <Fields
              operation={each}
              isFence={form.kind === 'fence'}
              offer={offer}
              onChange={(fields) => onChange(form.operations.with(index, { ...each, fields }))}
            />
          </Line>
        ),
      )}
    </>
  );
}

function Fields({
  operation: { operation, fields },
  isFence,
  offer,
  onChange,
}: {
  operation: FormOperation;
  isFence: boolean;
  offer: FormOffer;
  onChange: (fields: FormOperation['fields']) => void;
}) {
  const mode =
    fields === null ? 'whole' : fields.all ? (fields.names.length === 0 ? 'all' : 'all but') : 'these';
  const named = fields?.names ?? [];
  const choices = offer.fields.filter(
    ({ system, name }) => (operation === 'read' ? name !== 'id' : !system) || named.includes(name),
  );
  const first = choices[0]?.name ?? 'id';
  const choose = (next: string) => {
    if (next === 'whole') onChange(null);
    else if (next === 'all') onChange({ all: true, names: [] });
    else onChange({ all: next === 'all but', names: named.length > 0 ? named : [first] });
  };
  return (
    <>
      <NativeSelect
        value={mode}
        inputProps={{ 'aria-label': `Fields of ${operation}` }}
        onChange={(event) => choose(event.target.value)}
        sx={selectStyles}
      >
        {(isFence || fields === null) && (
          <option value="whole">{isFence ? 'the record' : 'all that there is'}</option>
        )}
        <option value="all">all fields</option>
        <option value="all but">all but</option>
        <option value="these">these</option>
      </NativeSelect>
      {(mode === 'all but' || mode === 'these') &&
        choices.map(({ name }) => (
          <Tick
            key={name}
            on={named.includes(name)}
            onClick={() => onChange({ all: fields!.all, names: toggled(named, name, 1) })}
          >
            {name}
          </Tick>
        ))}
    </>
  );
}

function takesFields(operation: string): boolean {
  return operation === 'read' || operation === 'create' || operation === 'update';
}

/** One of the conditions, or a group of them; `and` binds tighter, so a group within another stands in a frame. */
function Condition({
  condition,
  offer,
  onChange,
  onRemove,
}: {
  condition: FormCondition;
  offer: FormOffer;
  onChange: (condition: FormCondition) => boolean;
  onRemove: () => void;
}) {
  const grow = (joined: 'and' | 'or') => {
    const more = firstRow(offer);
    if (condition.kind === 'group' && condition.joined === joined)
      onChange({ ...condition, parts: [...condition.parts, more] });
    else onChange({ kind: 'group', joined, parts: [condition, more], start: 0, end: 0 });
  };
  const growing = (
    <Box sx={{ display: 'flex', gap: 0.5 }}>
      <Small onClick={() => grow('and')}>and …</Small>
      <Small onClick={() => grow('or')}>or …</Small>
    </Box>
  );
  if (condition.kind !== 'group')
    return (
      <Box sx={{ display: 'grid', gap: 0.25 }}>
        <Box sx={{ display: 'flex', gap: 0.5, alignItems: 'center', flexWrap: 'wrap' }}>
          <Row condition={condition} offer={offer} onChange={onChange} />
          <Small label="Take the condition away" onClick={onRemove}>
            ×
          </Small>
        </Box>
        {growing}
      </Box>
    );
  return (
    <Box sx={{ display: 'grid', gap: 0.25, borderLeft: '2px solid', borderColor: 'divider', pl: 0.75 }}>
      {condition.parts.map((part, index) => {
        const without = condition.parts.filter((_, at) => at !== index);
        const remove = () => onChange(without.length === 1 ? without[0]! : { ...condition, parts: without });
        const change = (next: FormCondition) =>
          onChange({ ...condition, parts: condition.parts.with(index, next) });
        return (
          <Box key={index} sx={{ display: 'grid', gap: 0.25 }}>
            {index > 0 && (
              <NativeSelect
                value={condition.joined}
                inputProps={{ 'aria-label': 'How the conditions are joined' }}
                onChange={(event) => onChange({ ...condition, joined: event.target.value as 'and' | 'or' })}
                sx={{ ...selectStyles, justifySelf: 'start' }}
              >
                <option>and</option>
                <option>or</option>
              </NativeSelect>
            )}
            {part.kind === 'group' ? (
              <Condition condition={part} offer={offer} onChange={change} onRemove={remove} />
            ) : (
              <Box sx={{ display: 'flex', gap: 0.5, alignItems: 'center', flexWrap: 'wrap' }}>
                <Row condition={part} offer={offer} onChange={change} />
                <Small label="Take the condition away" onClick={remove}>
                  ×
                </Small>
              </Box>
            )}
          </Box>
        );
      })}
      {growing}
    </Box>
  );
}

function Row({
  condition,
  offer,
  onChange,
}: {
  condition: Exclude<FormCondition, { kind: 'group' }>;
  offer: FormOffer;
  onChange: (condition: FormCondition) => boolean;
}) {
  if (condition.kind === 'text')
    return (
      <Written
        label="Condition as text"
        wide
        isCode
        value={condition.text}
        offered={[...(offer.isOwned ? ['mine'] : []), ...offer.lets.map((name) => `${name}(this)`)]}
        onChange={(text) => onChange({ ...condition, text })}
      />
    );
  const { left, operator, right } = condition;
  const field = offer.fields.find(({ name }) => name === left);
  const values = valuesFor(field?.type, offer);
  return (
    <>
      <Written
        label="What is looked at"
        isCode
        value={left}
        offered={[...offer.fields.map(({ name }) => name), ...offer.me.map(({ name }) => `me.${name}`)]}
        onChange={(next) => {
          const now = offer.fields.find(({ name }) => name === next);
          // A value of another type means nothing here.
          const fits = now === undefined || field === undefined || now.type === field.type;
          return onChange({
            ...condition,
            left: next,
            right: fits ? right : (valuesFor(now.type, offer)[0] ?? right),
          });
        }}
      />
      <NativeSelect
        value={operator}
        inputProps={{ 'aria-label': 'How it is compared' }}
        onChange={(event) => {
          const next = event.target.value as RowOperator;
          const list = next === 'in' || next === 'not in';
          const kept = isUnary(operator) ? (values[0] ?? 'me') : right.replace(/^\((.*)\)$/, '$1');
          onChange({
            ...condition,
            operator: next,
            right: list && !/^me\.|^\(/.test(kept) ? `(${kept})` : kept,
          });
        }}
        sx={selectStyles}
      >
        {rowOperators.map((each) => (
          <option key={each}>{each}</option>
        ))}
      </NativeSelect>
      {!isUnary(operator) && (
        <Written
          label="What it is compared with"
          isCode
          value={right}
          offered={values}
          onChange={(next) => onChange({ ...condition, right: next })}
        />
      )}
    </>
  );
}

/** What a field can be compared with: its choices, and what is known of whoever asks, by type. */
function valuesFor(type: string | undefined, { me }: FormOffer): string[] {
  if (type === undefined) return ['me'];
  const choices = /^one of \((.*)\)$/.exec(type)?.[1];
  if (choices !== undefined) return choices.split(/,\s*(?=")/);
  const own = me
    .filter((each) => each.type === type || each.type === `list of ${type}`)
    .map(({ name }) => `me.${name}`);
  if (type === 'ref people') return ['me', ...own];
  if (type === 'boolean') return ['true', 'false'];
  if (type === 'timestamp') return ['now', ...own];
  if (type === 'date') return ['today', ...own];
  if (type === 'integer' || type === 'decimal') return ['0', ...own];
  return [...own, quoted('')];
}

function firstRow(offer: FormOffer): FormCondition {
  if (offer.isOwned) return { kind: 'text', text: 'mine', start: 0, end: 0 };
  const field = offer.fields.find(({ system }) => !system) ?? offer.fields[0];
  return {
    kind: 'row',
    left: field?.name ?? 'id',
    operator: 'is present',
    right: valuesFor(field?.type, offer)[0] ?? 'me',
    start: 0,
    end: 0,
  };
}

/** What is typed counts as soon as it can be read; until then it stands here alone, and is marked. */
function Written({
  label,
  value,
  offered,
  onChange,
  wide = false,
  isCode = false,
}: {
  label: string;
  value: string;
  offered: readonly string[];
  onChange: (value: string) => boolean;
  wide?: boolean;
  isCode?: boolean;
}) {
  const id = useId();
  const [typed, setTyped] = useState<string | null>(null);
  return (
    <>
      <Box
        component="input"
        aria-label={label}
        aria-invalid={typed !== null}
        title={typed === null ? undefined : 'This cannot be read yet: the text has what stood here before'}
        value={typed ?? value}
        list={offered.length > 0 ? id : undefined}
        spellCheck={!isCode}
        onChange={(event: React.ChangeEvent<HTMLInputElement>) => {
          const next = event.target.value;
          setTyped(next.trim() !== next || !onChange(next) ? next : null);
        }}
        onBlur={() => {
          if (typed !== null && onChange(typed.trim())) setTyped(null);
        }}
        sx={{
          font: 'inherit',
          fontFamily: isCode ? 'ui-monospace, "DejaVu Sans Mono", monospace' : 'inherit',
          fontSize: '0.76rem',
          color: 'text.primary',
          bgcolor: 'background.default',
          border: '1px solid',
          borderColor: typed === null ? 'text.secondary' : 'error.main',
          borderRadius: 1,
          px: 0.5,
          height: 24,
          minWidth: 0,
          flex: wide ? '1 1 180px' : `0 1 ${Math.max(7, Math.min(22, (typed ?? value).length + 4))}ch`,
          '&:focus-visible': { outline: '2px solid', outlineColor: 'primary.main' },
        }}
      />
      {offered.length > 0 && (
        <datalist id={id}>
          {offered.map((each) => (
            <option key={each} value={each} />
          ))}
        </datalist>
      )}
    </>
  );
}

function Line({ name, children }: { name: string; children: ReactNode }) {
  return (
    <Box
      role="group"
      aria-label={name}
      sx={{ display: 'grid', gridTemplateColumns: '68px minmax(0, 1fr)', gap: 0.5 }}
    >
      <Typography
        component="span"
        sx={{ fontSize: '0.74rem', fontWeight: 650, color: 'text.secondary', pt: '3px' }}
      >
        {name}
      </Typography>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 0.5, alignItems: 'center' }}>{children}</Box>
    </Box>
  );
}

function Tick({ on, onClick, children }: { on: boolean; onClick: () => void; children: string }) {
  return (
    <Button
      size="small"
      variant={on ? 'contained' : 'outlined'}
      aria-pressed={on}
      onClick={onClick}
      sx={{ py: 0, px: 0.75, fontSize: '0.73rem', minHeight: 24, fontWeight: on ? 650 : 400 }}
    >
      {children}
    </Button>
  );
}

function Small({ onClick, label, children }: { onClick: () => void; label?: string; children: string }) {
  return (
    <Button
      size="small"
      aria-label={label}
      onClick={onClick}
      sx={{ py: 0, px: 0.75, minWidth: 24, minHeight: 24, fontSize: '0.73rem' }}
    >
      {children}
    </Button>
  );
}

const selectStyles = { fontSize: '0.76rem', '& select': { py: '1px' } } as const;

/** With it or without; `least`: how many must be left. */
function toggled(all: readonly string[], one: string, least: number): readonly string[] {
  if (!all.includes(one)) return [...all, one];
  return all.length > least ? all.filter((each) => each !== one) : all;
}

/** A feed's mapping as a form: where rows are, and where each field of an event comes from. */
import type {Schemas} from '../../api/client';
import {Field} from '../../design/Field';
import {FormGrid} from '../../design/Form';
import {Rows, type RowValues} from '../../design/Rows';

type Mapping = Schemas['FeedMapping'];
type Source = Schemas['FieldSource'];
/** A mapping as the form holds it: texts only. Constants, defaults and values that are not text are shown as JSON. */
export interface MappingDraft {
  rows: string;
  each: string;
  unwrap: RowValues<'at' | 'form'>[];
  fields: RowValues<'field' | 'path' | 'form' | 'constant' | 'default'>[];
  values: RowValues<'field' | 'from' | 'to'>[];
}

const FIELDS = [
  'kind',
  'time',
  'domain',
  'recipient',
  'id',
  'message_id',
  'stream',
  'relay',
  'campaign',
  'tags',
  'reply_code',
  'enhanced_code',
  'diagnostic',
  'cause',
  'permanence',
  'remote_host',
  'sending_ip',
  'attempt',
  'seconds_taken',
].map((value) => ({value, label: value}));
const FORMS = [
  {value: '', label: 'As it is'},
  {value: 'seconds', label: 'Unix time, seconds'},
  {value: 'milliseconds', label: 'Unix time, milliseconds'},
  {value: 'rfc5322', label: 'Time of RFC 5322'},
  {value: 'lower', label: 'Lower case'},
  {value: 'number', label: 'Number'},
];
const UNWRAP = [
  {value: 'json', label: 'JSON in text'},
  {value: 'base64', label: 'Base64'},
  {value: 'base64-json', label: 'JSON in Base64'},
];

/** A value as text. Text that would be read as something else is put in quotes. */
export function shown(value: unknown): string {
  if (value == null) return '';
  if (typeof value !== 'string') return JSON.stringify(value);
  return value === '' || read(value) !== value ? JSON.stringify(value) : value;
}

/** What a text of the form means: JSON where it is JSON, otherwise the text itself; nothing is null. */
export function read(text: string): unknown {
  if (text.trim() === '') return null;
  try {
    return JSON.parse(text) as unknown;
  } catch {
    return text.trim();
  }
}

export const toDraft = (mapping: Mapping): MappingDraft => ({
  rows: mapping.rows ?? '$',
  each: mapping.each ?? '',
  unwrap: (mapping.unwrap ?? []).map((step) => ({at: step.at, form: step.form})),
  fields: Object.entries(mapping.fields).map(([field, source]) => ({
    field,
    path: source.path ?? '',
    form: source.form ?? '',
    constant: shown(source.constant),
    default: shown(source.default),
  })),
  values: Object.entries(mapping.fields).flatMap(([field, source]) =>
    Object.entries(source.table ?? {}).map(([from, to]) => ({field, from, to: shown(to)})),
  ),
});

export function fromDraft(draft: MappingDraft): Mapping {
  const table = (field: string) => {
    const rows = draft.values.filter((row) => row.field === field && row.from !== '');
    return rows.length ? Object.fromEntries(rows.map((row) => [row.from, read(row.to)])) : null;
  };
  return {
    rows: draft.rows.trim() || '$',
    each: draft.each.trim(),
    unwrap: draft.unwrap
      .filter((row) => row.at.trim())
      .map((row) => ({at: row.at.trim(), form: row.form as 'json' | 'base64' | 'base64-json'})),
    fields: Object.fromEntries(
      draft.fields.map((row) => [
        row.field,
        {
          path: row.path.trim(),
          form: row.form as NonNullable<Source['form']>,
          constant: read(row.constant),
          default: read(row.default),
          table: table(row.field),
        },
      ]),
    ),
  };
}

interface MappingFormProps {
  draft: MappingDraft;
  onChange: (draft: MappingDraft) => void;
}

export function MappingForm({draft, onChange}: MappingFormProps) {
  const set = (part: Partial<MappingDraft>) => onChange({...draft, ...part});
  const known = new Set(FIELDS.map((each) => each.value));
  const fields = [
    ...FIELDS,
    ...draft.fields.filter((row) => !known.has(row.field)).map((row) => ({value: row.field, label: row.field})),
  ];
  return (
    <FormGrid aria-label="Fields of the mapping" onSubmit={(event) => event.preventDefault()}>
      <Field
        label="Rows"
        hint="JSONPath (RFC 9535) of the rows in a document; $ is the whole document"
        mono
        value={draft.rows}
        onChange={(rows) => set({rows})}
      />
      <Field
        label="Each"
        hint="several events in one row: JSONPath within it; fields then start with @"
        mono
        value={draft.each}
        onChange={(each) => set({each})}
      />
      <div data-wide>
        <Rows
          label="Decode first"
          hint="values that hold a document as text"
          add="Add step"
          fields={[
            {name: 'at', label: 'JSONPath', width: 'minmax(0, 3fr)', placeholder: '$.Records[*].body'},
            {name: 'form', label: 'Form', options: UNWRAP},
          ]}
          rows={draft.unwrap}
          onChange={(unwrap) => set({unwrap})}
          most={10}
        />
      </div>
      <div data-wide>
        <Rows
          label="Fields"
          hint="of an event, each from a path or a constant"
          add="Add field"
          fields={[
            {name: 'field', label: 'Field', width: '130px', options: fields},
            {name: 'path', label: 'JSONPath', width: 'minmax(0, 2fr)', placeholder: '$.event'},
            {name: 'form', label: 'Form', width: 'minmax(0, 1.2fr)', options: FORMS},
            {name: 'constant', label: 'Constant'},
            {name: 'default', label: 'If missing'},
          ]}
          rows={draft.fields}
          onChange={(changed) => set({fields: changed})}
          most={40}
        />
      </div>
      <div data-wide>
        <Rows
          label="Values"
          hint="of the source and what they become; an empty one skips the row"
          add="Add value"
          fields={[
            {
              name: 'field',
              label: 'Field',
              width: '130px',
              options: draft.fields.length
                ? draft.fields.map((row) => ({value: row.field, label: row.field}))
                : [{value: 'kind', label: 'kind'}],
            },
            {name: 'from', label: 'Value of the source', placeholder: 'bounce'},
            {name: 'to', label: 'Becomes', placeholder: 'bounced'},
          ]}
          rows={draft.values}
          onChange={(values) => set({values})}
        />
      </div>
    </FormGrid>
  );
}

/** A list that is edited row by row in a form: one row of fields for each entry, and a button that adds one. */
import styled from 'styled-components';
import {Button} from './Button';
import {CheckField} from './CheckField';
import {Choice} from './Choice';
import {Field} from './Field';
import {colour, narrow, space} from './tokens';

export type RowValues<Name extends string = string> = Record<Name, string>;
/** One field of a row: a text input, a select (`options`) or a checkbox (`check`; its value is 'yes' or ''). */
interface RowField<Name extends string = string> {
  name: Name;
  label: string;
  /** The track of the grid, such as '8ch' or '2fr'. */
  width?: string;
  options?: {value: string; label: string}[];
  check?: boolean;
  placeholder?: string;
}
interface RowsProps<Name extends string> {
  label: string;
  hint?: string;
  /** What the button that adds a row says. */
  add: string;
  fields: RowField<Name>[];
  rows: RowValues<Name>[];
  onChange: (rows: RowValues<Name>[]) => void;
  /** With so many rows, no more can be added. */
  most?: number;
}

const Root = styled.fieldset`
  border: 0;
  margin: 0;
  padding: 0;
  min-width: 0;
  display: grid;
  gap: ${space.xs};
  justify-items: start;
  legend {
    font-weight: 600;
    font-size: 12px;
    padding: 0;
    margin-bottom: ${space.xs};
  }
  legend small {
    font-weight: 400;
    color: ${colour('soft')};
    margin-left: ${space.s};
  }
`;
const Row = styled.div<{$tracks: string}>`
  width: 100%;
  display: grid;
  grid-template-columns: ${({$tracks}) => $tracks} 60px;
  gap: ${space.s};
  align-items: end;
  && .react-aria-Label {
    color: ${colour('soft')};
    font-weight: 400;
  }
  & + & .react-aria-Label {
    position: absolute;
    width: 1px;
    height: 1px;
    overflow: hidden;
    clip-path: inset(50%);
  }
  > button {
    margin-bottom: 9px;
    justify-self: start;
  }
  ${narrow} {
    grid-template-columns: minmax(0, 1fr);
    border-left: 2px solid ${colour('line')};
    padding-left: ${space.s};
    & + & .react-aria-Label {
      position: static;
      width: auto;
      height: auto;
      clip-path: none;
    }
  }
`;

export function Rows<Name extends string>({label, hint, add, fields, rows, onChange, most = 200}: RowsProps<Name>) {
  const tracks = fields.map((field) => field.width ?? 'minmax(0, 1fr)').join(' ');
  const empty = Object.fromEntries(
    fields.map((field) => [field.name, field.options?.[0]?.value ?? '']),
  ) as RowValues<Name>;
  const set = (at: number, name: Name, value: string) =>
    onChange(rows.map((row, number) => (number === at ? {...row, [name]: value} : row)));
  return (
    <Root>
      <legend>
        {label}
        {hint && <small>{hint}</small>}
      </legend>
      {rows.map((row, at) => (
        <Row key={at} $tracks={tracks} role="group" aria-label={`${label}, row ${at + 1}`}>
          {fields.map((field) =>
            field.options ? (
              <Choice
                key={field.name}
                field
                label={field.label}
                value={row[field.name]}
                options={field.options}
                onChange={(value) => set(at, field.name, value)}
              />
            ) : field.check ? (
              <CheckField
                key={field.name}
                label={field.label}
                isSelected={row[field.name] === 'yes'}
                onChange={(on) => set(at, field.name, on ? 'yes' : '')}
              />
            ) : (
              <Field
                key={field.name}
                label={field.label}
                mono
                value={row[field.name]}
                placeholder={field.placeholder}
                onChange={(value) => set(at, field.name, value)}
              />
            ),
          )}
          <Button
            tone="link"
            aria-label={`Delete row ${at + 1} of ${label}`}
            onPress={() => onChange(rows.filter((_, number) => number !== at))}
          >
            Delete
          </Button>
        </Row>
      ))}
      {rows.length < most && (
        <Button aria-label={`${add}: ${label}`} onPress={() => onChange([...rows, empty])}>
          {add}
        </Button>
      )}
    </Root>
  );
}

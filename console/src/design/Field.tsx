import {FieldError, Input, Label, Text, TextArea, TextField, type TextFieldProps} from 'react-aria-components';
import styled from 'styled-components';
import {colour, font, space} from './tokens';

const Root = styled(TextField)`
  display: grid;
  gap: ${space.xs};
  .react-aria-Label {
    font-weight: 600;
    font-size: 12px;
  }
  input,
  textarea {
    font: 14px ${font.sans};
    padding: 7px ${space.s};
    color: ${colour('ink')};
    background: ${colour('sheet')};
    border: 1px solid ${colour('line')};
    border-radius: 4px;
    min-width: 0;
  }
  input[data-mono],
  textarea {
    font: 13px/1.5 ${font.mono};
  }
  input[data-focused],
  textarea[data-focused] {
    outline: 2px solid ${colour('rust')};
    outline-offset: 0;
  }
  [slot='description'] {
    color: ${colour('soft')};
    font-size: 12px;
  }
`;

interface FieldProps extends TextFieldProps {
  label: string;
  hint?: string;
  mono?: boolean;
  lines?: number;
  placeholder?: string;
}

export const Field = ({label, hint, mono, lines, placeholder, ...props}: FieldProps) => (
  <Root {...props}>
    <Label>{label}</Label>
    {lines ? (
      <TextArea rows={lines} placeholder={placeholder} />
    ) : (
      <Input data-mono={mono || undefined} placeholder={placeholder} />
    )}
    {hint && <Text slot="description">{hint}</Text>}
    <FieldError />
  </Root>
);

/** Several of a known set: what is chosen as tags that can be removed, and a select that adds one. */
import {Button as AriaButton, Label, Tag, TagGroup, TagList} from 'react-aria-components';
import styled from 'styled-components';
import {Choice} from './Choice';
import {colour, space} from './tokens';

const Root = styled.div`
  display: grid;
  gap: ${space.xs};
  align-content: start;
  .react-aria-Label {
    font-weight: 600;
    font-size: 12px;
  }
  .react-aria-TagList {
    display: flex;
    flex-wrap: wrap;
    gap: ${space.xs};
    color: ${colour('soft')};
    font-size: 13px;
  }
  .react-aria-Tag {
    display: flex;
    gap: ${space.xs};
    border: 1px solid ${colour('line')};
    border-radius: 3px;
    padding: 2px 6px;
    color: ${colour('ink')};
    &[data-focus-visible] {
      outline: 2px solid ${colour('rust')};
    }
    button {
      border: 0;
      background: none;
      color: inherit;
      cursor: pointer;
      padding: 0 2px;
      font: inherit;
    }
  }
`;

interface SeveralProps {
  label: string;
  /** What it means that nothing is chosen, such as "any event". */
  none: string;
  /** What the select says, such as "Add cause". */
  add: string;
  value: string[];
  options: {value: string; label: string}[];
  onChange: (value: string[]) => void;
}

export function Several({label, none, add, value, options, onChange}: SeveralProps) {
  const left = options.filter((each) => !value.includes(each.value));
  const name = (id: string) => options.find((each) => each.value === id)?.label ?? id;
  return (
    <Root>
      <TagGroup onRemove={(keys) => onChange(value.filter((each) => !keys.has(each)))}>
        <Label>{label}</Label>
        <TagList renderEmptyState={() => none}>
          {value.map((id) => (
            <Tag key={id} id={id} textValue={name(id)}>
              {name(id)}
              <AriaButton slot="remove" aria-label="Remove">
                ×
              </AriaButton>
            </Tag>
          ))}
        </TagList>
      </TagGroup>
      {left.length > 0 && (
        <span>
          <Choice
            label={`${add}: ${label}`}
            shown={add}
            value=""
            options={left}
            onChange={(id) => onChange([...value, id])}
          />
        </span>
      )}
    </Root>
  );
}

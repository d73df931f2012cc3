/** Messages beside each other: what differs, and which difference accounts for each point of the mark. */
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Button} from '../../design/Button';
import {Card, Small, Soft} from '../../design/Card';
import {DataTable} from '../../design/DataTable';
import {plural} from '../../design/format';
import {Loading, Trouble} from '../../design/Notice';
import {Stack} from '../../design/Stack';
import {colour, font, space} from '../../design/tokens';
import {useComparison} from './queries';
import {Mono} from './TraysCard';

type Comparison = Schemas['AssayComparison'];

const Points = styled.ul`
  list-style: none;
  margin: 0 0 ${space.m};
  padding: 0;
  li {
    display: grid;
    grid-template-columns: 56px minmax(0, 1fr);
    gap: 0 ${space.m};
    padding: 8px 0;
    border-top: 1px solid ${colour('line')};
  }
  li > span:first-child {
    text-align: right;
    font-variant-numeric: tabular-nums;
    font-weight: 600;
  }
`;
const Cell = styled.div`
  min-width: 16ch;
  max-width: 48ch;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  font: 12px/1.45 ${font.mono};
`;

export const signed = (value: number) => {
  const rounded = Math.round(value * 10) / 10;
  return rounded === 0 ? '0' : rounded > 0 ? `+${rounded}` : `−${-rounded}`;
};

/** Why the points of a rule differ, in a sentence. */
export function reasonOf(because: string[]): string {
  if (because.length === 0)
    return 'Nothing differs that this rule looks at: the time, DNS or the weight of others may.';
  if (because.length === 1) return `Because this changed: ${because[0]}.`;
  return `Changed at once, and cannot be told apart: ${because.join(', ')}.`;
}

export function CompareView({
  path,
  ids,
  onClose,
}: {
  path: {tenant: string; name: string};
  ids: number[];
  onClose: () => void;
}) {
  const found = useComparison(path, ids);
  return (
    <Stack>
      {found.isPending && <Loading what="the comparison" />}
      {found.error && <Trouble error={found.error} again={() => void found.refetch()} />}
      {found.data?.comparisons.map((each, i) => (
        <Compared
          key={each.name}
          done={each}
          before={found.data.messages[0]!}
          after={found.data.messages[i + 1]!}
          onClose={i === 0 ? onClose : undefined}
        />
      ))}
    </Stack>
  );
}

const way = (message: Schemas['CaughtMessage']) =>
  message.client_ip ? `${message.client_ip} ${message.helo}`.trim() : message.via;

interface ComparedProps {
  done: Comparison;
  before: Schemas['CaughtMessage'];
  after: Schemas['CaughtMessage'];
  onClose?: () => void;
}

function Compared({done, before, after, onClose}: ComparedProps) {
  const kinds = [...new Set(done.changes.map((each) => each.kind))];
  return (
    <Card
      title={`Message ${done.name} against ${done.against}`}
      note={after.subject === before.subject ? after.subject : `${after.subject} / ${before.subject}`}
      actions={
        onClose && (
          <Button needs="viewer" onPress={onClose}>
            Close comparison
          </Button>
        )
      }
    >
      <p role="status" style={{fontSize: 17, margin: '0 0 4px'}}>
        {done.mark_before} <Soft>then</Soft> <strong>{done.mark_after}</strong>{' '}
        <Soft>({signed(done.mark_after - done.mark_before)})</Soft>
      </p>
      <p style={{margin: '0 0 12px'}}>
        <Mono>{way(before)}</Mono> <Soft>then</Soft> <Mono>{way(after)}</Mono>
      </p>
      {kinds.length === 0 && <p>The messages differ neither in what was sent nor in how it came.</p>}
      {kinds.length > 1 && (
        <p>
          <b>{plural(kinds.length, 'kind')} of things changed at once:</b> {kinds.join(', ')}.
        </p>
      )}
      {done.points.length > 0 && (
        <Points aria-label="Points">
          {done.points.map((each) => (
            <li key={each.rule}>
              <span>{signed(each.before - each.after)}</span>
              <span>
                {each.title}
                <br />
                <Small>{reasonOf(each.because)}</Small>
              </span>
            </li>
          ))}
        </Points>
      )}
      {done.changes.length > 0 && (
        <DataTable
          label={`Differences of ${done.name} and ${done.against}`}
          file={`comparison-${done.against}-${done.name}.csv`}
          rows={done.changes.map((each, at) => ({...each, at}))}
          id={(row) => String(row.at)}
          columns={[
            {name: 'What', value: (row) => row.kind},
            {name: 'Where', value: (row) => row.what, show: (row) => <Cell>{row.what}</Cell>},
            {name: `In ${done.against}`, value: (row) => row.before ?? '', show: (row) => <Cell>{row.before}</Cell>},
            {name: `In ${done.name}`, value: (row) => row.after ?? '', show: (row) => <Cell>{row.after}</Cell>},
          ]}
        />
      )}
    </Card>
  );
}

/** The way to p=reject: the stages, what the next one waits for, and the record to go back to when mail of ours fails. */
import {useState, type FormEvent} from 'react';
import styled from 'styled-components';
import {Link} from 'react-router';
import type {Schemas} from '../../api/client';
import {Button} from '../../design/Button';
import {Card, Small, Tag} from '../../design/Card';
import {CopyButton} from '../../design/CopyButton';
import {Field} from '../../design/Field';
import {FormGrid} from '../../design/Form';
import {day} from '../../design/format';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {Stack} from '../../design/Stack';
import {colour, font} from '../../design/tokens';
import {useChooseStage, usePath, useSetPath} from './queries';

const Stages = styled.ol`
  list-style: none;
  margin: 0;
  padding: 0;
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(200px, 1fr));
  gap: 8px;
  li {
    border-top: 4px solid ${colour('line')};
    padding: 6px 0;
    min-width: 0;
  }
  li[data-state='done'] {
    border-top-color: ${colour('sound')};
  }
  li[data-state='current'] {
    border-top: 4px double ${colour('sound')};
    font-weight: 600;
  }
  code {
    display: block;
    font: 12px ${font.mono};
    overflow-wrap: anywhere;
  }
`;
const Conditions = styled.table`
  border-collapse: collapse;
  td,
  th {
    text-align: left;
    padding: 4px 12px 4px 0;
    font-weight: 400;
    vertical-align: top;
  }
`;
const NAMES: Record<Schemas['PathCondition']['kind'], string> = {
  reports: 'Days with reports',
  aligned: 'Our mail that aligns',
  unknown: 'Unknown sources',
  days: 'Time at this stage',
};
const STATES = {done: 'done', current: 'now', next: 'next', later: ''} as const;

const FIELDS = [
  ['aligned_share', 'Our mail that aligns, %'],
  ['quiet_days', 'Days that are measured'],
  ['unknown_a_day', 'Messages a day of an unknown source'],
  ['stage_days', 'Shortest time at a stage, days'],
] as const;
type Values = Schemas['PathSettings'];

/** What the next stage waits for. The share is stored as a fraction and shown in percent. */
function Settings({settings, busy, onSave}: {settings: Values; busy: boolean; onSave: (settings: Values) => void}) {
  const [texts, setTexts] = useState(() =>
    Object.fromEntries(
      FIELDS.map(([name]) => [name, String(name === 'aligned_share' ? 100 * settings[name] : settings[name])]),
    ),
  );
  const submit = (event: FormEvent) => {
    event.preventDefault();
    const numbers = Object.fromEntries(FIELDS.map(([name]) => [name, Number(texts[name])])) as unknown as Values;
    onSave({...numbers, aligned_share: numbers.aligned_share / 100});
  };
  return (
    <FormGrid onSubmit={submit}>
      {FIELDS.map(([name, label]) => (
        <Field
          key={name}
          label={label}
          value={texts[name] ?? ''}
          onChange={(text) => setTexts({...texts, [name]: text})}
        />
      ))}
      <footer>
        <Button type="submit" tone="main" isDisabled={busy}>
          Save
        </Button>
      </footer>
    </FormGrid>
  );
}

export function PathCard({tenant, domain}: {tenant: string; domain: string}) {
  const [editing, setEditing] = useState(false);
  const path = usePath(tenant, domain);
  const set = useSetPath(tenant, domain);
  const choose = useChooseStage(tenant, domain);
  if (path.isPending) return <Loading what="path to p=reject" />;
  if (path.error) return <Trouble error={path.error} again={() => void path.refetch()} />;
  if (path.data.governed_by)
    return (
      <Card title="Path to p=reject">
        <p style={{margin: 0}}>
          {path.data.summary}.{' '}
          <Link to={`/domains/${tenant}/${path.data.governed_by}?view=reports`}>Path of {path.data.governed_by}</Link>
        </p>
      </Card>
    );
  if (path.data.stages.length === 0)
    return (
      <Card title="Path to p=reject">
        <Notice title={path.data.summary}>
          {path.data.published && (
            <>
              Last known record: <code>{path.data.published}</code>{' '}
            </>
          )}
          <Button onPress={() => void path.refetch()}>Re-check</Button>
        </Notice>
      </Card>
    );
  const found = path.data;
  const start = found.running ? (
    <Button changes onPress={() => setEditing(!editing)}>
      {editing ? 'Cancel' : 'Conditions'}
    </Button>
  ) : (
    <Button changes onPress={() => set.mutate(found.settings)} isDisabled={set.isPending}>
      Watch this path
    </Button>
  );
  return (
    <Card title="Path to p=reject" note={found.summary} actions={start}>
      <Stack>
        {editing && (
          <Settings
            settings={found.settings}
            busy={set.isPending}
            onSave={(settings) => set.mutate(settings, {onSuccess: () => setEditing(false)})}
          />
        )}
        {found.broken && (
          <Notice title={found.broken}>
            Publish the record of the stage before: <code>{found.return_record}</code>{' '}
            <CopyButton value={found.return_record}>Copy</CopyButton>
          </Notice>
        )}
        <Stages>
          {found.stages.map((each) => (
            <li key={each.stage} data-state={each.state}>
              {each.stage}{' '}
              <Small>
                {each.state === 'current' && found.stage_since ? `since ${day(found.stage_since)}` : STATES[each.state]}
              </Small>
              <code>{each.record.split('; rua=')[0]}</code>
            </li>
          ))}
        </Stages>
        {found.conditions.length > 0 && (
          <Conditions>
            <tbody>
              {found.conditions.map((each) => (
                <tr key={each.kind}>
                  <th scope="row">{NAMES[each.kind]}</th>
                  <td>{each.met ? <Tag level="right">met</Tag> : <Tag level="risk">not met</Tag>}</td>
                  <td>
                    {each.measured} <Small>wanted: {each.wanted}</Small>
                  </td>
                </tr>
              ))}
            </tbody>
          </Conditions>
        )}
        {found.running && found.next_stage && (
          <div>
            <Button
              changes
              tone={found.ready ? 'main' : undefined}
              onPress={() => choose.mutate(found.next_stage!)}
              isDisabled={choose.isPending}
            >
              Add {found.next_stage} to the record plan
            </Button>{' '}
            {choose.isSuccess && (
              <Link to={`/domains/${tenant}/${domain}?view=setup`}>It is in the plan: publish it from there</Link>
            )}
          </div>
        )}
        {(set.error ?? choose.error) && <Trouble error={(set.error ?? choose.error)!} />}
      </Stack>
    </Card>
  );
}

/** Every record to publish, in the form that this panel wants, beside what became of it. */
import {useState} from 'react';
import styled from 'styled-components';
import {Button} from '../../design/Button';
import {Card, Small, Soft, Tag} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {CopyButton} from '../../design/CopyButton';
import {download, toCsv} from '../../design/csv';
import {ago, plural} from '../../design/format';
import {colour, font, narrow, space} from '../../design/tokens';
import {csvColumns, csvRow, LEVELS, PURPOSES, zoneFile, type Plan, type PlanRecord} from './words';

type HostForm = 'host' | 'host_or_blank' | 'host_full' | 'host_with_dot';
type ValueForm = 'value' | 'value_quoted' | 'value_with_priority';
const HOSTS = [
  {value: 'host', label: 'relative host, @ for the apex'},
  {value: 'host_or_blank', label: 'relative host, empty for the apex'},
  {value: 'host_full', label: 'full name'},
  {value: 'host_with_dot', label: 'full name with trailing dot'},
];
const VALUES = [
  {value: 'value', label: 'plain values'},
  {value: 'value_quoted', label: 'quoted, split at 255; hosts with trailing dot'},
  {value: 'value_with_priority', label: 'priority before the value'},
];

const Forms = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: 2px ${space.m};
  align-items: baseline;
  font-size: 12px;
  color: ${colour('soft')};
  margin-bottom: ${space.s};
`;
const Row = styled.article`
  border-top: 1px solid ${colour('line')};
  padding: 10px 0 12px;
  display: grid;
  gap: 6px;
  min-width: 0;
  > header {
    display: flex;
    flex-wrap: wrap;
    gap: 4px ${space.m};
    align-items: baseline;
  }
  > header > span:last-child {
    color: ${colour('soft')};
    font-size: 13px;
    flex: 1 1 20ch;
  }
`;
const Fields = styled.dl`
  display: grid;
  grid-template-columns: 42px minmax(0, 1fr) auto;
  gap: 4px ${space.s};
  margin: 0;
  align-items: start;
  dt {
    font-size: 12px;
    color: ${colour('soft')};
    padding-top: 5px;
  }
  dd {
    margin: 0;
    font: 12px/1.5 ${font.mono};
    overflow-wrap: anywhere;
    white-space: pre-wrap;
    background: ${colour('paper')};
    border: 1px solid ${colour('line')};
    padding: 4px 8px;
  }
  dd.copy {
    background: none;
    border: 0;
    padding: 0;
    font: inherit;
  }
  ${narrow} {
    grid-template-columns: minmax(0, 1fr) auto;
    dt {
      grid-column: 1 / -1;
      padding: 0;
    }
  }
`;
const Wrong = styled.div`
  border-left: 3px solid ${colour('corroded')};
  padding: 2px 0 2px 10px;
  display: grid;
  gap: 4px;
  font-size: 13px;
  code {
    font: 12px/1.6 ${font.mono};
    overflow-wrap: anywhere;
    white-space: pre-wrap;
  }
  ul {
    margin: 0;
    padding-left: 18px;
  }
  del {
    color: ${colour('sound')};
    text-decoration: none;
    border-bottom: 2px solid currentColor;
  }
  ins {
    color: ${colour('corroded')};
    text-decoration: none;
    border: 1px solid currentColor;
    padding: 0 1px;
  }
`;

export function PlanCard({plan, onCheck, busy}: {plan: Plan; onCheck: () => void; busy: boolean}) {
  const [hostForm, setHostForm] = useState<HostForm>('host');
  const [valueForm, setValueForm] = useState<ValueForm>('value');
  const [onlyWrong, setOnlyWrong] = useState(false);
  const mine = plan.records.filter((each) => !each.elsewhere);
  const wrong = mine.filter((each) => each.check?.state !== 'matches');
  const ours = onlyWrong && wrong.length ? wrong : mine;
  const others = plan.records.filter((each) => each.elsewhere);
  const file = (name: string, text: string, type: string) => download(`plan-${plan.domain}.${name}`, text, type);
  return (
    <Card
      title="Records to publish"
      note={`zone ${plan.zone}${plan.checked_at ? `, checked ${ago(plan.checked_at)}` : ''}`}
      actions={
        <>
          <Button tone="link" onPress={() => file('zone', zoneFile(plan), 'text/plain')}>
            Zone file
          </Button>
          <Button tone="link" onPress={() => file('csv', toCsv(csvColumns, plan.records.map(csvRow)), 'text/csv')}>
            CSV
          </Button>
          <Button tone="link" onPress={() => file('json', JSON.stringify(plan, null, 2), 'application/json')}>
            JSON
          </Button>
          <Button tone="main" onPress={onCheck} isDisabled={busy}>
            {busy ? 'Querying name servers …' : 'Re-check'}
          </Button>
        </>
      }
    >
      <Forms>
        Format for your DNS panel:
        <Choice
          label="Host format"
          value={hostForm}
          options={HOSTS}
          onChange={(value) => setHostForm(value as HostForm)}
        />
        and
        <Choice
          label="Value format"
          value={valueForm}
          options={VALUES}
          onChange={(value) => setValueForm(value as ValueForm)}
        />
        {wrong.length > 0 && wrong.length < mine.length && (
          <Button tone="link" onPress={() => setOnlyWrong(!onlyWrong)}>
            {onlyWrong ? `Show all ${mine.length}` : `Show only the ${wrong.length} that differ`}
          </Button>
        )}
      </Forms>
      {ours.map((each) => (
        <RecordRow key={each.key} record={each} host={each.forms[hostForm]} value={each.forms[valueForm]} />
      ))}
      {others.length > 0 && (
        <details>
          <summary>
            <Small>{plural(others.length, 'record')} published by others: reverse DNS, hosts of relays</Small>
          </summary>
          {others.map((each) => (
            <RecordRow key={each.key} record={each} host={each.forms.host_full} value={each.forms[valueForm]} />
          ))}
        </details>
      )}
      {plan.sts_policy && (
        <Row>
          <header>
            <b>mta-sts.txt</b>
            <span>what the host mta-sts.{plan.domain} must serve</span>
          </header>
          <Fields>
            <dt>Text</dt>
            <dd>{plan.sts_policy}</dd>
            <dd className="copy">
              <CopyButton value={plan.sts_policy}>Copy</CopyButton>
            </dd>
          </Fields>
        </Row>
      )}
    </Card>
  );
}

function RecordRow({record, host, value}: {record: PlanRecord; host: string; value: string}) {
  const check = record.check;
  const taken = record.waits_for && check?.state === 'matches' ? check.published[0] : '';
  return (
    <Row aria-label={`${record.name} ${record.type}`}>
      <header>
        {check && <Tag level={LEVELS[check.state]}>{check.state}</Tag>}
        <b>{PURPOSES[record.purpose] ?? record.purpose}</b>
        <span>{record.why}</span>
      </header>
      <Fields>
        <dt>Host</dt>
        <dd>{host || <Soft>(leave empty)</Soft>}</dd>
        <dd className="copy">
          <CopyButton value={host}>Copy host</CopyButton>
        </dd>
        <dt>{record.type}</dt>
        <dd>{taken || (record.waits_for ? <Soft>waits for {record.waits_for}</Soft> : value)}</dd>
        <dd className="copy">{!record.waits_for && <CopyButton value={value}>Copy value</CopyButton>}</dd>
      </Fields>
      <Small>
        Type {record.type}
        {record.priority != null && `, priority ${record.priority}`}, TTL {record.ttl}
        {record.relay && `, for ${record.relay}`}
      </Small>
      {check && check.state !== 'matches' && <WhatIsWrong record={record} />}
      {check?.state === 'matches' && check.causes.map((each) => <Small key={each.key}>{each.text}</Small>)}
    </Row>
  );
}

function WhatIsWrong({record}: {record: PlanRecord}) {
  const check = record.check!;
  const compared = check.pieces.some((each) => each.kind !== 'same');
  if (!check.causes.length && !check.detail && !compared && !check.published.length) return null;
  return (
    <Wrong>
      {check.detail && <span>{check.detail}</span>}
      {check.found_at && (
        <span>
          Published at <code>{check.found_at}</code>
        </span>
      )}
      {check.causes.length > 0 && (
        <ul>
          {check.causes.map((each, i) => (
            <li key={i}>
              {each.text}
              {each.column > 0 && <Small> at character {each.column}</Small>}
            </li>
          ))}
        </ul>
      )}
      {compared && (
        <>
          <code>
            {check.pieces.map((each, i) =>
              each.kind === 'same' ? (
                <span key={i}>{each.published}</span>
              ) : (
                <span key={i}>
                  {each.planned && <del title="planned, not published">{each.planned}</del>}
                  {each.published && <ins title="published, not planned">{each.published.replaceAll(' ', '␣')}</ins>}
                </span>
              ),
            )}
          </code>
          <Small>
            <del>underlined</del> is planned, not published, <ins>boxed</ins> is published, not planned
          </Small>
        </>
      )}
      {!compared && check.published.map((each) => <code key={each}>{each}</code>)}
    </Wrong>
  );
}

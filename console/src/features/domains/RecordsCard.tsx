import {useEffect} from 'react';
import {Link, useLocation} from 'react-router';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Button} from '../../design/Button';
import {Card, Small, Soft, Tag} from '../../design/Card';
import {CopyButton} from '../../design/CopyButton';
import {download} from '../../design/csv';
import {ago, words} from '../../design/format';
import {RecordText, type Mark} from '../../design/RecordText';
import {colour, font} from '../../design/tokens';

type Audit = Schemas['Audit'];
type Finding = Schemas['Finding'];
type Published = Schemas['PublishedRecord'];

const Rec = styled.div`
  border-top: 1px solid ${colour('line')};
  padding: 8px 0;
  display: grid;
  gap: 5px;
  &:first-of-type {
    border: 0;
  }
  header {
    display: flex;
    justify-content: space-between;
    gap: 8px;
    font: 12px ${font.mono};
    color: ${colour('soft')};
    overflow-wrap: anywhere;
  }
  p {
    font-size: 13px;
  }
`;
const Found = styled.div`
  display: grid;
  gap: 3px;
  padding-left: 10px;
  border-left: 3px solid ${colour('line')};
  font-size: 13px;
  b {
    font-weight: 600;
  }
`;

const Evidence = styled.ul`
  list-style: none;
  margin: 0;
  padding: 0;
  font: 12px/1.5 ${font.mono};
  color: ${colour('soft')};
  overflow-wrap: anywhere;
`;

export function RecordsCard({audit, onAudit, busy}: {audit: Audit; onAudit: () => void; busy: boolean}) {
  const {hash} = useLocation();
  useEffect(() => {
    if (hash) document.getElementById(hash.slice(1))?.scrollIntoView?.({block: 'center'});
  }, [hash]);
  const placed = new Set<string>();
  const shown = audit.records.map((record) => {
    const findings = audit.findings.filter(
      (each) =>
        !placed.has(each.id) &&
        each.place.name === record.name &&
        each.place.rdtype === record.rdtype &&
        (record.purpose === (each.check ?? '') ||
          each.rule.startsWith('dns') ||
          record.purpose === each.rule.split('-')[0]),
    );
    findings.forEach((each) => placed.add(each.id));
    return {record, findings};
  });
  const others = audit.findings.filter((each) => !placed.has(each.id));
  const spf = audit.spf_lookups == null ? '' : `, SPF costs ${audit.spf_lookups} of 10 lookups`;
  return (
    <Card
      title="Records"
      note={`audited ${ago(audit.finished_at)}${spf}`}
      actions={
        <>
          <Button
            tone="link"
            onPress={() => download(`audit-${audit.domain}.json`, JSON.stringify(audit, null, 2), 'application/json')}
          >
            Export JSON
          </Button>
          <Button onPress={onAudit} isDisabled={busy}>
            {busy ? 'Querying DNS …' : 'Re-check'}
          </Button>
        </>
      }
    >
      {shown.map(({record, findings}) => (
        <RecordView
          key={`${record.purpose} ${record.name} ${record.rdtype}`}
          record={record}
          findings={findings}
          about={aboutKey(audit, record)}
        />
      ))}
      {others.map((each) => (
        <Rec key={each.id}>
          <FindingView finding={each} />
        </Rec>
      ))}
    </Card>
  );
}

const SOURCES: Record<string, string> = {
  hand: 'your settings',
  stream: 'a stream',
  usual: 'common names',
  message: 'a message',
  report: 'a report',
  relay: 'a relay',
  plan: 'the plan',
  zone: 'the zone file',
};
const ORDER = ['fault', 'risk', 'note'] as const;

/** What is known of the key at a selector: its kind, and since when it has been there. */
export function aboutKey(audit: Audit, record: Published): string {
  const key = audit.keys.find(
    (each) => record.purpose === 'dkim' && record.name.startsWith(`${each.selector}._domainkey.`),
  );
  if (!key) return '';
  const parts = [key.bits ? `${key.key_type} ${key.bits}` : key.key_type];
  if (key.first_seen) parts.push(`first seen ${ago(key.first_seen)}`);
  if (record.strings.length) parts.push(`${record.strings.length} strings`);
  return parts.join(', ');
}

function RecordView({record, findings, about}: {record: Published; findings: Finding[]; about: string}) {
  const worst = ORDER.find((level) => findings.some((each) => each.level === level));
  const marks = (index: number): Mark[] =>
    findings
      .filter((each) => each.place.column && each.place.record === index)
      .map((each) => ({column: each.place.column!, length: each.place.length!, level: each.level}));
  return (
    <Rec>
      <header>
        <span>
          {record.name} {record.rdtype}
          {record.aliases.map((each) => ` → ${each}`)}
          {about && <Small> {about};</Small>}
          {record.source && <Small> selector from: {SOURCES[record.source] ?? record.source}</Small>}
        </span>
        {worst ? <Tag level={worst}>{worst}</Tag> : record.values.length > 0 && <Tag level="right">in order</Tag>}
      </header>
      {record.values.map((value, i) => (
        <RecordText key={i} text={value} marks={marks(i)} />
      ))}
      {record.values.length === 0 && <Soft>{nothing(record.status)}</Soft>}
      {findings.map((each) => (
        <FindingView key={each.id} finding={each} />
      ))}
    </Rec>
  );
}

const Items = styled.ul`
  list-style: none;
  margin: 0;
  padding: 0;
  display: grid;
  gap: 9px;
  li {
    display: grid;
    grid-template-columns: 46px 1fr;
    gap: 8px;
    align-items: baseline;
    font-size: 13px;
  }
  span:first-child {
    text-align: center;
  }
`;

/** The findings in short, the worst first, each leading to its record. */
export function FindingsCard({audit}: {audit: Audit}) {
  return (
    <Card title="Findings" note={`audited ${ago(audit.finished_at)}`}>
      {audit.findings.length === 0 && <Soft>No faults found.</Soft>}
      <Items>
        {audit.findings.map((each) => (
          <li key={each.id}>
            <Tag level={each.level}>{each.level}</Tag>
            <Link to={{search: '?view=records', hash: anchor(each)}}>{each.title}</Link>
          </li>
        ))}
      </Items>
    </Card>
  );
}

const anchor = (finding: Finding) => `finding-${finding.id.replaceAll(/[^A-Za-z0-9_-]/g, '-')}`;

const LEVEL_COLOUR = {fault: 'seized', risk: 'tarnished', note: 'line'} as const;

const FindingView = ({finding}: {finding: Finding}) => (
  <Found id={anchor(finding)} style={{borderColor: colour(LEVEL_COLOUR[finding.level])}}>
    <b>{finding.title}</b>
    {finding.place.column > 0 && <Small>at column {finding.place.column}</Small>}
    {finding.evidence.length > 0 && !finding.place.column && (
      <Evidence>
        {finding.evidence.slice(0, 8).map((each, i) => (
          <li key={i}>{each}</li>
        ))}
      </Evidence>
    )}
    <span>{finding.reason}</span>
    <span>
      <b>To do:</b> {finding.remedy} <Small>{finding.reference}</Small>
    </span>
    {finding.mail ? <Small>affects {finding.mail.toLocaleString('en')} messages of the last seven days</Small> : null}
    {finding.record && (
      <>
        <RecordText text={finding.record} />
        <span>
          <CopyButton value={finding.record}>Copy record</CopyButton>
        </span>
      </>
    )}
  </Found>
);

/** What it means that there are no values: no answer is not the same as no record. */
function nothing(status: string): string {
  if (status === 'no_name') return 'Not published: the name does not exist.';
  if (status === 'no_data' || status === 'found') return 'Not published: the name has no such record.';
  return `Not measured: no usable answer (${words(status)}).`;
}

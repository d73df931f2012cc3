/** What a receiver would verify about this very message, our own data about its sender, and the text model's view. */
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Small, Soft, Tag} from '../../design/Card';
import {CopyButton} from '../../design/CopyButton';
import {DataTable} from '../../design/DataTable';
import {Stack} from '../../design/Stack';
import {font} from '../../design/tokens';

const Header = styled.pre`
  margin: 0;
  font: 12px/1.5 ${font.mono};
  white-space: pre-wrap;
  overflow-wrap: anywhere;
`;
const Wide = styled.span`
  display: block;
  min-width: 24ch;
  max-width: 70ch;
  white-space: normal;
  overflow-wrap: anywhere;
`;

interface Verified {
  method: string;
  who: string;
  result: string;
  why: string;
}

/** Each method with its result and reason, in the order of a receiver's field. */
export function verified(assay: Schemas['Assay']): Verified[] {
  const {authentication: found, arc} = assay;
  if (!found) return [];
  const rows: Verified[] = [];
  if (found.spf) {
    const {domain, result, reason} = found.spf.mail_from;
    rows.push({method: 'SPF', who: domain, result, why: reason});
  }
  for (const each of found.signatures) {
    const why = [each.detail, ...each.clues].filter(Boolean).join('; ');
    rows.push({method: 'DKIM', who: `${each.domain} (${each.selector})`, result: each.result, why});
  }
  if (found.signatures.length === 0) rows.push({method: 'DKIM', who: '', result: 'none', why: 'No signature'});
  const dmarc = found.dmarc[0];
  if (dmarc) rows.push({method: 'DMARC', who: found.header_from, result: dmarc.result, why: dmarc.reason});
  if (arc && arc.result !== 'none') {
    rows.push({method: 'ARC', who: `${arc.sets.length} sets`, result: arc.result, why: arc.reason});
    for (const each of arc.sets)
      rows.push({method: `ARC ${each.instance}`, who: each.domain, result: each.seal, why: each.detail});
  }
  return rows;
}

const level = (result: string) =>
  result === 'pass' ? 'right' : result === 'none' || result === 'neutral' ? 'note' : 'fault';

export function Authentication({assay}: {assay: Schemas['Assay']}) {
  const rows = verified(assay);
  const {sender, learned} = assay;
  return (
    <Stack>
      {rows.length === 0 ? (
        <Soft>DNS was not asked.</Soft>
      ) : (
        <DataTable
          label="Authentication"
          file="authentication.csv"
          rows={rows.map((row, at) => ({...row, at}))}
          id={(row) => String(row.at)}
          columns={[
            {name: 'Method', value: (row) => row.method},
            {name: 'Domain', value: (row) => row.who},
            {
              name: 'Result',
              value: (row) => row.result,
              show: (row) => <Tag level={level(row.result)}>{row.result}</Tag>,
            },
            {name: 'Why', value: (row) => row.why, show: (row) => <Wide>{row.why}</Wide>},
          ]}
        />
      )}
      {assay.results_header && (
        <div>
          <h3 style={{margin: '0 0 6px', fontSize: 14}}>The header that a receiver would write</h3>
          <Header>{assay.results_header.replace(/\r/g, '')}</Header>
          <CopyButton value={assay.results_header}>Copy</CopyButton>
        </div>
      )}
      {sender && (
        <div>
          <h3 style={{margin: '0 0 6px', fontSize: 14}}>Your own mail of this sender</h3>
          <p style={{margin: '0 0 8px'}}>
            {sender.domain}: {sender.domain_since ? `mail since ${sender.domain_since}` : 'no mail is known'}
            {sender.ip && `; ${sender.ip}: ${sender.ip_since ? `mail since ${sender.ip_since}` : 'no mail is known'}`}
          </p>
          {sender.readings.length > 0 && (
            <DataTable
              label="Readings"
              file="readings.csv"
              rows={sender.readings}
              id={(row) => row.provider}
              columns={[
                {name: 'Mailbox provider', value: (row) => row.provider},
                {name: 'Reading', value: (row) => row.reading, number: true},
              ]}
            />
          )}
        </div>
      )}
      {learned && (
        <p style={{margin: 0}}>
          Reads like your campaigns that went badly: {Math.round(learned.likeness * 100)} %{' '}
          <Small>
            by your text model, which classified {learned.right} of {learned.of} campaigns correctly that it was not
            shown
            {learned.words.length > 0 && `; most by: ${learned.words.map((each) => each.text).join(', ')}`}
          </Small>
        </p>
      )}
    </Stack>
  );
}

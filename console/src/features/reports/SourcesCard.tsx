/** Who sends as a domain: a row for each source, ours first. */
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Button} from '../../design/Button';
import {Card, Small, Tag} from '../../design/Card';
import {DataTable, type Column} from '../../design/DataTable';
import {count, day, plural} from '../../design/format';
import {Notice} from '../../design/Notice';
import {font} from '../../design/tokens';
import {aligned, share, VerdictMark, VERDICTS} from './verdicts';

type Source = Schemas['Source'];
const Why = styled.span`
  display: inline-block;
  max-width: 52ch;
  min-width: 28ch;
  white-space: normal;
`;

/** Ours, and more than a twentieth of its mail does not align. */
const fails = (row: Source) => row.verdict === 'ours' && row.mail.neither * 20 > row.mail.messages;

const columnsWith = (open: (name: string) => void): Column<Source>[] => [
  {
    name: 'Source',
    value: (row) => row.name,
    show: (row) => (
      <Button tone="link" onPress={() => open(row.name)}>
        <span style={{font: `13px ${font.mono}`}}>{row.name}</span>
      </Button>
    ),
  },
  {
    name: 'Whose',
    value: (row) => VERDICTS.indexOf(row.verdict),
    show: (row) => <VerdictMark verdict={row.verdict} />,
  },
  {name: 'Messages', value: (row) => row.mail.messages, show: (row) => count(row.mail.messages), number: true},
  {
    name: 'Aligned',
    value: (row) => aligned(row.mail) / Math.max(1, row.mail.messages),
    show: (row) => {
      const shown = share(aligned(row.mail), row.mail.messages);
      return fails(row) ? <Tag level="fault">{shown}</Tag> : shown;
    },
    number: true,
  },
  {name: 'SPF only', value: (row) => row.mail.spf_only, show: (row) => count(row.mail.spf_only), number: true},
  {name: 'DKIM only', value: (row) => row.mail.dkim_only, show: (row) => count(row.mail.dkim_only), number: true},
  {name: 'Refused', value: (row) => row.mail.rejected, show: (row) => count(row.mail.rejected), number: true},
  {name: 'Last day', value: (row) => row.last_day, show: (row) => day(row.last_day)},
  {
    name: 'Why',
    value: (row) => (row.decided_by ? `decided by ${row.decided_by}` : (row.evidence[0]?.text ?? '')),
    show: (row) => (
      <Why>
        <Small>
          {row.decided_by
            ? `decided by ${row.decided_by}`
            : `${row.evidence[0]?.text ?? 'not judged yet'}${row.verdict === 'unknown' ? '' : ` (${Math.round(100 * row.certainty)} %)`}`}
        </Small>
      </Why>
    ),
  },
];

export function SourcesCard({overview, onOpen}: {overview: Schemas['SourceOverview']; onOpen: (name: string) => void}) {
  const unknown = overview.sources.filter((each) => each.verdict === 'unknown').length;
  const failing = overview.sources.filter(fails).length;
  const notes = [
    ...(failing ? [`${plural(failing, 'source')} of ours not aligned`] : []),
    unknown ? `${plural(unknown, 'unknown source')} to decide` : 'every source is known',
  ];
  return (
    <Card title="Sources" note={notes.join('; ')}>
      {overview.sources.length === 0 ? (
        <Notice title="No mail reported in this period">Choose a longer period.</Notice>
      ) : (
        <DataTable
          label={`Sources of ${overview.domain}`}
          columns={columnsWith(onOpen)}
          rows={overview.sources}
          id={(row) => `${row.verdict} ${row.name}`}
          file={`sources-${overview.domain}.csv`}
        />
      )}
      {overview.not_judged > 0 && (
        <Small>{count(overview.not_judged)} addresses are not judged yet and count as unknown.</Small>
      )}
      {overview.unknown_names.length > 0 && (
        <>
          <h3>Subdomains that nobody added</h3>
          <DataTable
            label="Subdomains that nobody added"
            columns={[
              {name: 'Name', value: (row) => row.name},
              {name: 'Messages', value: (row) => row.messages, number: true},
              {name: 'Aligned', value: (row) => row.passed, number: true},
              {name: 'Last day', value: (row) => row.last_day},
            ]}
            rows={overview.unknown_names}
            id={(row) => row.name}
            file={`subdomains-${overview.domain}.csv`}
          />
        </>
      )}
    </Card>
  );
}

/** Who sends as a domain: a row for each source, ours first. */
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Button} from '../../design/Button';
import {Card, Small, Tag} from '../../design/Card';
import {DataTable, type Column} from '../../design/DataTable';
import {useDone} from '../../design/Done';
import {count, day, plural} from '../../design/format';
import {useMay} from '../../design/may';
import {Notice} from '../../design/Notice';
import {SelectionBar, useSelection} from '../../design/selection';
import {font} from '../../design/tokens';
import {useDecideAll} from './queries';
import {aligned, share, VerdictMark, VERDICTS} from './verdicts';

type Source = Schemas['Source'];
const idOf = (row: Source) => `${row.verdict} ${row.name}`;
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
  {
    name: 'Messages',
    value: (row) => row.mail.messages,
    show: (row) => count(row.mail.messages),
    number: true,
    about: {
      formula: 'Sum of the counts in all rows of reports from this source.',
      source: 'DMARC aggregate reports (RFC 7489) of receivers that send them; not all do.',
      period: 'The period of the page; a report counts on the day in the middle of its own.',
    },
  },
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

interface SourcesCardProps {
  tenant: string;
  overview: Schemas['SourceOverview'];
  onOpen: (name: string) => void;
}
type Verdict = Schemas['SourceDecision']['verdict'];
const SAID: Record<NonNullable<Verdict> | 'withdrawn', string> = {
  not_ours: 'marked as not ours',
  forwarded: 'marked as forwarding',
  withdrawn: 'judged by the service again',
};
/** What a person decided of a source; null where the service judges. A claim is a decision of another kind. */
const decisionOf = (row: Source): Verdict =>
  row.decided_by && (row.verdict === 'not_ours' || row.verdict === 'forwarded') ? row.verdict : null;

export function SourcesCard({tenant, overview, onOpen}: SourcesCardProps) {
  const may = useMay();
  const tell = useDone();
  const decide = useDecideAll(tenant, overview.domain);
  const selection = useSelection(overview.sources.map(idOf));
  const mark = (verdict: Verdict) => {
    const chosen = overview.sources.filter((row) => selection.has(idOf(row)));
    const before = chosen.map((row) => ({source: row.name, verdict: decisionOf(row)}));
    decide.mutate(
      chosen.map((row) => ({source: row.name, verdict})),
      {
        onSuccess: ({decided, failed}) => {
          selection.clear();
          tell({
            text: `${plural(decided, 'source')} ${SAID[verdict ?? 'withdrawn']}.${failed.length ? ` Not: ${failed.join(', ')}.` : ''}`,
            undo: async () => {
              const back = await decide.mutateAsync(before.filter((each) => !failed.includes(each.source)));
              return `${plural(back.decided, 'source')} as before.`;
            },
          });
        },
      },
    );
  };
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
        <>
          <SelectionBar selection={selection} of="sources">
            <Button changes isDisabled={decide.isPending} onPress={() => mark('not_ours')}>
              Mark as not ours
            </Button>
            <Button changes isDisabled={decide.isPending} onPress={() => mark('forwarded')}>
              Mark as forwarding
            </Button>
            <Button changes isDisabled={decide.isPending} onPress={() => mark(null)}>
              Withdraw decision
            </Button>
          </SelectionBar>
          <DataTable
            label={`Sources of ${overview.domain}`}
            columns={columnsWith(onOpen)}
            rows={overview.sources}
            id={idOf}
            file={`sources-${overview.domain}.csv`}
            selection={may ? selection : undefined}
          />
        </>
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

/** Rehearsal: a stricter policy tried on past mail, what it would have hit, and what to fix first. */
import {useState} from 'react';
import type {Schemas} from '../../api/client';
import {Card, Small} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {DataTable, type Column} from '../../design/DataTable';
import {count, day, plural} from '../../design/format';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {RecordText} from '../../design/RecordText';
import {Row, Stack} from '../../design/Stack';
import {useRehearsal} from './queries';
import {share, VerdictMark} from './verdicts';

type Policy = Schemas['RehearsalPolicy'];
const POLICIES = ['none', 'quarantine', 'reject'] as const;
const whole = (n: number) => count(Math.round(n));

const groups: Column<Schemas['RehearsedGroup']>[] = [
  {name: 'Whose', value: (row) => row.verdict, show: (row) => <VerdictMark verdict={row.verdict} />},
  {name: 'Messages', value: (row) => row.messages, show: (row) => count(row.messages), number: true},
  {
    name: 'Aligned',
    value: (row) => row.aligned,
    show: (row) => share(row.aligned, row.messages),
    number: true,
  },
  {name: 'To spam', value: (row) => row.quarantined, show: (row) => whole(row.quarantined), number: true},
  {name: 'Refused', value: (row) => row.rejected, show: (row) => whole(row.rejected), number: true},
];
const toFix: Column<Schemas['RehearsedSource']>[] = [
  {name: 'Source', value: (row) => row.source},
  {name: 'Whose', value: (row) => row.verdict, show: (row) => <VerdictMark verdict={row.verdict} />},
  {
    name: 'Hit',
    value: (row) => row.quarantined + row.rejected,
    show: (row) => `${whole(row.quarantined + row.rejected)} of ${count(row.messages)}`,
    number: true,
  },
  {name: 'Last day', value: (row) => row.last_hit, show: (row) => day(row.last_hit)},
  {
    name: 'What to do',
    value: (row) => row.remedy,
    show: (row) => <span style={{whiteSpace: 'normal', display: 'inline-block', maxWidth: '60ch'}}>{row.remedy}</span>,
  },
];
const receivers: Column<Schemas['RehearsedReceiver']>[] = [
  {name: 'Receiver', value: (row) => row.label},
  {name: 'Messages', value: (row) => row.messages, show: (row) => count(row.messages), number: true},
  {name: 'To spam', value: (row) => row.quarantined, show: (row) => whole(row.quarantined), number: true},
  {name: 'Refused', value: (row) => row.rejected, show: (row) => whole(row.rejected), number: true},
  {name: 'Of these ours', value: (row) => row.ours_hit, show: (row) => whole(row.ours_hit), number: true},
];

export function RehearsalCard({tenant, domain, days}: {tenant: string; domain: string; days: number}) {
  const [policy, setPolicy] = useState<Policy>({
    p: 'reject',
    sp: '',
    np: '',
    pct: 100,
    testing: false,
    aspf: 'r',
    adkim: 'r',
    days,
  });
  const found = useRehearsal(tenant, domain, {...policy, days});
  const change = (part: Partial<Policy>) => setPolicy({...policy, ...part});
  const data = found.data;
  return (
    <Card title="Rehearsal" note={`a policy tried on the mail of the last ${plural(days, 'day')}`}>
      <Stack>
        <Row>
          <Choice
            label="Policy"
            value={policy.p}
            shown={`p=${policy.p}`}
            options={POLICIES.map((value) => ({value, label: `p=${value}`}))}
            onChange={(value) => change({p: value as Policy['p']})}
          />
          <Choice
            label="Subdomain policy"
            value={policy.sp}
            shown={policy.sp ? `sp=${policy.sp}` : 'sp as p'}
            options={[{value: '', label: 'sp as p'}, ...POLICIES.map((value) => ({value, label: `sp=${value}`}))]}
            onChange={(value) => change({sp: value as Policy['sp']})}
          />
          <Choice
            label="Missing subdomains"
            value={policy.np}
            shown={policy.np ? `np=${policy.np}` : 'np as sp'}
            options={[{value: '', label: 'np as sp'}, ...POLICIES.map((value) => ({value, label: `np=${value}`}))]}
            onChange={(value) => change({np: value as Policy['np']})}
          />
          <Choice
            label="Percentage"
            value={policy.testing ? 't' : String(policy.pct)}
            shown={policy.testing ? 't=y' : policy.pct === 100 ? 'all mail that fails' : `pct=${policy.pct}`}
            options={[
              {value: '100', label: 'all mail that fails'},
              {value: '50', label: 'pct=50'},
              {value: '25', label: 'pct=25'},
              {value: '10', label: 'pct=10'},
              {value: 't', label: 't=y, one step milder'},
            ]}
            onChange={(value) =>
              change(value === 't' ? {testing: true, pct: 100} : {testing: false, pct: Number(value)})
            }
          />
          <Choice
            label="Alignment"
            value={policy.aspf + policy.adkim}
            shown={
              policy.aspf === 's' || policy.adkim === 's' ? `aspf=${policy.aspf}; adkim=${policy.adkim}` : 'relaxed'
            }
            options={[
              {value: 'rr', label: 'relaxed alignment'},
              {value: 'rs', label: 'strict DKIM'},
              {value: 'sr', label: 'strict SPF'},
              {value: 'ss', label: 'strict SPF and DKIM'},
            ]}
            onChange={(value) => change({aspf: value[0] as 'r', adkim: value[1] as 'r'})}
          />
        </Row>
        {found.isPending && <Loading what="rehearsal" />}
        {found.error && <Trouble error={found.error} again={() => void found.refetch()} />}
        {data && (
          <>
            <p style={{margin: 0}}>
              <b>{data.summary}.</b>{' '}
              {data.days_with_reports > 0 && (
                <Small>
                  Quiet for {plural(data.quiet_days, 'day')}; reports of {plural(data.days_with_reports, 'day')}.
                </Small>
              )}
            </p>
            {data.missing_names.length > 0 && (
              <Small>Subdomains in From that do not exist: {data.missing_names.slice(0, 10).join(', ')}.</Small>
            )}
            {data.names_not_measured > 0 && (
              <Small>
                DNS gave no answer for {plural(data.names_not_measured, 'subdomain')}; they count as existing.
              </Small>
            )}
            {data.days_with_reports > 0 && (
              <>
                <DataTable
                  label="What the policy would have done"
                  columns={groups}
                  rows={data.groups}
                  id={(row) => row.verdict}
                  file={`rehearsal-${domain}.csv`}
                />
                {data.to_fix.length > 0 && (
                  <>
                    <h3>To fix first</h3>
                    <DataTable
                      label="To fix first"
                      columns={toFix}
                      rows={data.to_fix}
                      id={(row) => `${row.verdict} ${row.source}`}
                      file={`to-fix-${domain}.csv`}
                    />
                  </>
                )}
                <h3>By receiver</h3>
                <DataTable
                  label="By receiver"
                  columns={receivers}
                  rows={data.receivers}
                  id={(row) => row.receiver}
                  file={`rehearsal-receivers-${domain}.csv`}
                />
              </>
            )}
            {data.record ? (
              <RecordText text={data.record} />
            ) : (
              <Notice title="DNS gave no answer for the record of today">
                The record to publish keeps its other tags, so that it cannot be shown now.
              </Notice>
            )}
          </>
        )}
      </Stack>
    </Card>
  );
}

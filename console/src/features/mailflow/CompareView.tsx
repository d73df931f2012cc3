/** Two parts of the mail beside each other: each difference with its interval, or that nobody can tell. */
import type {Schemas} from '../../api/client';
import {useComparisonOfFlow, type Which} from './queries';
import {Card, Small, Tag} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {DataTable} from '../../design/DataTable';
import {bare, firstDay, percent} from '../../design/format';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {useView} from '../../shell/view';
import {whichOf} from './FlowPage';

type Difference = Schemas['RateDifference'];

const shown = (rate: Schemas['Rate'] | null) =>
  rate ? (
    <>
      {percent(rate.value)}{' '}
      <Small>
        {bare(rate.low)}–{bare(rate.high)}
      </Small>
    </>
  ) : (
    <Small>no mail</Small>
  );
const points = (share: number) => `${share > 0 ? '+' : ''}${(share * 100).toFixed(2)}`;

export function CompareView({
  tenant,
  days,
  which,
  parts,
}: {
  tenant: string;
  days: number;
  which: Which;
  parts: {value: string; label: string}[];
}) {
  const view = useView();
  const other = view.get('other');
  const found = useComparisonOfFlow(tenant, firstDay(days), which, whichOf('', other));
  return (
    <Card
      title="Comparison"
      note={
        found.data
          ? `${found.data.first} against ${found.data.second}, last ${days} days`
          : 'two campaign variants, relays or streams'
      }
      actions={
        <Choice
          label="Compare with"
          value={other || 'none'}
          options={[{value: 'none', label: 'Choose what to compare with'}, ...parts]}
          onChange={(value) => view.set('other', value === 'none' ? '' : value)}
        />
      }
    >
      {!other && (
        <Notice title="Choose what to compare">Choose one part above (or all mail), and the other here.</Notice>
      )}
      {other && found.isPending && <Loading what="both" />}
      {found.error && <Trouble error={found.error} />}
      {found.data && (
        <DataTable
          label="Differences"
          columns={[
            {name: 'Rate', value: (row: Difference) => row.name},
            {name: found.data.first, value: (row) => row.first?.value, show: (row) => shown(row.first), number: true},
            {
              name: found.data.second,
              value: (row) => row.second?.value,
              show: (row) => shown(row.second),
              number: true,
            },
            {
              name: 'Difference, points',
              value: (row) => row.difference,
              show: (row) => (row.low == null || row.high == null ? '' : `${points(row.low)} to ${points(row.high)}`),
              number: true,
            },
            {
              name: 'Larger',
              value: (row) => row.summary,
              show: (row) => <Tag level={row.better ? 'right' : 'note'}>{row.summary}</Tag>,
            },
          ]}
          rows={found.data.rates}
          id={(row) => row.name}
          file={`comparison-${tenant}.csv`}
        />
      )}
    </Card>
  );
}

import {useParams} from 'react-router';
import styled from 'styled-components';
import {ProblemError} from '../../api/client';
import {useAudit, useNewestAudit} from './queries';
import {useFlow} from '../mailflow/queries';
import {useReadings} from '../readings/queries';
import {Button} from '../../design/Button';
import {About} from '../../design/About';
import {Card, Soft} from '../../design/Card';
import {day, firstDay, plural} from '../../design/format';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {Plate} from '../../design/Plate';
import {colour, font, narrow, space} from '../../design/tokens';
import {useView} from '../../shell/view';
import {ProvidersTable} from '../mailflow/ProvidersTable';
import {Tabs} from '../../design/Tabs';
import {BulkCard, ChecksCard} from './ChecksCard';
import {HistoryView} from './HistoryView';
import {FindingsCard, RecordsCard} from './RecordsCard';
import {conditionDays, sentence} from './sentence';
import {SendersCard, SpfCard} from './SpfCard';
import {AlignmentCard, StreamSettings} from './StreamsView';
import {TryView} from './TryView';
import {StandingView} from '../readings/StandingView';
import {SourcesView} from '../reports/SourcesView';
import {SetUpView} from '../recordplan/SetUpView';

const Page = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1fr);
  gap: ${space.l};
`;
const Title = styled.div`
  grid-column: 1 / -1;
  display: flex;
  flex-wrap: wrap;
  gap: ${space.s} ${space.l};
  align-items: center;
  h1 {
    font: 600 22px ${font.mono};
    overflow-wrap: anywhere;
  }
  p {
    color: ${colour('soft')};
    max-width: 90ch;
  }
  p b {
    color: ${colour('ink')};
    font-weight: 600;
  }
  > div:last-child {
    flex: 1 1 400px;
  }
  ${narrow} {
    h1 {
      font-size: 17px;
    }
    > div:last-child {
      flex-basis: 100%;
    }
  }
`;
const Big = styled.div`
  font-size: 34px;
  font-weight: 600;
  line-height: 1;
  white-space: nowrap;
  small {
    font-size: 15px;
    font-weight: 400;
    color: ${colour('soft')};
  }
`;
const Two = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1fr) 400px;
  gap: ${space.l} ${space.xl};
  @media (max-width: 1100px) {
    grid-template-columns: minmax(0, 1fr);
  }
`;
const TABS = ['overview', 'setup', 'records', 'streams', 'reports', 'tests', 'history'];
const counted = (title: string, faults?: number) => (faults ? `${title} (${plural(faults, 'fault')})` : title);
const Column = styled.div`
  display: grid;
  gap: ${space.l};
  align-content: start;
  min-width: 0;
`;

export function DomainPage() {
  const {tenant = '', name = ''} = useParams();
  const view = useView(90);
  const days = view.days;
  const first = firstDay(days);
  const overall = useReadings(tenant, {subject: 'domain', name, provider: '(all)'}, first);
  const flow = useFlow(tenant, first, {domain: name});
  const audit = useNewestAudit(tenant, name);
  const again = useAudit(tenant, name);
  if (overall.isPending) return <Loading what={name} />;
  if (overall.error) return <Trouble error={overall.error} again={() => void overall.refetch()} />;
  const readings = overall.data.readings;
  const last = readings.at(-1);
  const said = sentence(last, audit.data);
  const held = conditionDays(readings);
  const providers = [
    {value: '(all)', label: 'All providers'},
    ...(flow.data?.providers ?? []).map((row) => ({value: row.provider, label: row.label})),
  ];
  const tab = TABS.includes(view.get('view')) ? view.get('view') : 'overview';
  const notAudited = audit.error && (
    <Card title="Records">
      {audit.error instanceof ProblemError && audit.error.problem.status === 404 ? (
        <Notice title="Not audited yet">
          <Button tone="main" onPress={() => again.mutate()} isDisabled={again.isPending}>
            {again.isPending ? 'Querying DNS …' : 'Run audit'}
          </Button>
        </Notice>
      ) : (
        <Trouble error={audit.error} again={() => void audit.refetch()} />
      )}
    </Card>
  );
  return (
    <Page>
      <Title>
        <Plate value={last?.value} margin={last?.margin} width={34} height={62} />
        {last?.value != null && (
          <Big>
            {Math.round(last.value)}{' '}
            <small>
              ± {Math.round(last.margin ?? 0)} · {last.condition}
              {held ? ` for ${plural(held, 'day')}` : ''}
            </small>
            <About
              of="Reading"
              meaning={{
                formula: `100 minus the points of all factors (listed under Factors); ± ${Math.round(last.margin ?? 0)} is its margin: fewer messages, wider`,
                source:
                  'Events, audits, listings, placement and reports of receivers, overall and at each mailbox provider',
                period: `Up to ${day(last.day)}; recent days count more`,
                events: {to: `/flow?tenant=${tenant}&domain=${name}`, label: 'Mail flow of the domain'},
              }}
            />
          </Big>
        )}
        <div>
          <h1>{name}</h1>
          {audit.data?.unicode_name && <Soft>{audit.data.unicode_name}</Soft>}
          <p>
            <b>{said.strong}</b> {said.rest}
          </p>
        </div>
      </Title>
      <div style={{gridColumn: '1 / -1', minWidth: 0}}>
        <Tabs
          label="Views of this domain"
          value={tab}
          onChange={(value) => view.go('view', value === 'overview' ? '' : value)}
          tabs={[
            {
              id: 'overview',
              title: 'Overview',
              content: () => (
                <StandingView
                  tenant={tenant}
                  subject="domain"
                  name={name}
                  days={days}
                  providers={providers}
                  left={
                    <Card
                      title="By mailbox provider"
                      note={`last ${days} days compared with the ${days} before; rates with 95 % intervals`}
                    >
                      {flow.error && <Trouble error={flow.error} again={() => void flow.refetch()} />}
                      {flow.data &&
                        (flow.data.providers.length ? (
                          <ProvidersTable flow={flow.data} file={`providers-${name}.csv`} />
                        ) : (
                          <Notice title="No mail in this period">
                            Load events for this domain, or choose a longer period.
                          </Notice>
                        ))}
                    </Card>
                  }
                  right={audit.data ? <FindingsCard audit={audit.data} /> : notAudited}
                />
              ),
            },
            {id: 'setup', title: 'Setup', content: () => <SetUpView tenant={tenant} name={name} />},
            {
              id: 'records',
              title: counted('Records', audit.data?.faults),
              content: () =>
                audit.data ? (
                  <Two>
                    <Column>
                      <RecordsCard audit={audit.data} onAudit={() => again.mutate()} busy={again.isPending} />
                      {audit.data.spf && <SpfCard spf={audit.data.spf} />}
                      {audit.data.spf && <SendersCard spf={audit.data.spf} file={`senders-${name}.csv`} />}
                    </Column>
                    <Column>
                      <FindingsCard audit={audit.data} />
                      <ChecksCard audit={audit.data} />
                      <BulkCard audit={audit.data} />
                    </Column>
                  </Two>
                ) : (
                  notAudited
                ),
            },
            {
              id: 'streams',
              title: 'Streams',
              content: () => (
                <Column>
                  {audit.data ? <AlignmentCard audit={audit.data} /> : notAudited}
                  <StreamSettings tenant={tenant} name={name} onChanged={() => again.mutate()} />
                </Column>
              ),
            },
            {
              id: 'reports',
              title: 'Reports',
              content: () => <SourcesView tenant={tenant} name={name} days={days} />,
            },
            {id: 'tests', title: 'Tests', content: () => <TryView tenant={tenant} name={name} />},
            {id: 'history', title: 'History', content: () => <HistoryView tenant={tenant} name={name} />},
          ]}
        />
        {again.error && <Trouble error={again.error} />}
      </div>
    </Page>
  );
}

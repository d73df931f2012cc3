/** A stream, relay or sending address: how its mail stands. */
import {useParams} from 'react-router';
import styled from 'styled-components';
import {useReadings, type Subject} from './queries';
import {useWall} from '../wall/queries';
import {factor, firstDay, measured} from '../../design/format';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {Plate} from '../../design/Plate';
import {colour, font, space} from '../../design/tokens';
import {useView} from '../../shell/view';
import {LimitsCard} from './LimitsCard';
import {StandingView} from './StandingView';

const Page = styled.div`
  display: grid;
  gap: ${space.l};
  grid-template-columns: minmax(0, 1fr);
`;
const Title = styled.div`
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
  }
`;
const WORDS: Record<string, string> = {stream: 'Stream', relay: 'Relay', ip: 'Sending address'};

export function SubjectPage() {
  const {tenant = '', subject = '', name = ''} = useParams();
  const {days} = useView(90);
  const of = {subject: subject as Subject, name, provider: '(all)'};
  const overall = useReadings(tenant, of, firstDay(days));
  const wall = useWall({days: 7, tenant, subject: subject as Subject, search: name});
  if (!(subject in WORDS))
    return (
      <Notice page title="Page not found">
        Use the navigation above.
      </Notice>
    );
  if (overall.isPending) return <Loading what={name} />;
  if (overall.error) return <Trouble error={overall.error} again={() => void overall.refetch()} />;
  const last = overall.data.readings.at(-1);
  const pull = last?.pulls[0];
  const providers = (wall.data?.columns ?? []).map((column) => ({
    value: column.provider,
    label: column.provider === '(all)' ? 'All providers' : column.label,
  }));
  return (
    <Page>
      <Title>
        <Plate value={last?.value} margin={last?.margin} width={34} height={62} />
        <div>
          <h1>{name}</h1>
          <p>
            {WORDS[subject]} of {tenant}.{' '}
            {last?.value == null
              ? 'Too little mail for a reading.'
              : `${Math.round(last.value)} ± ${Math.round(last.margin ?? 0)}, ${last.condition}. ${pull && pull.points >= 2 ? `${factor(pull.factor)} at ${pull.label} took ${pull.points} points (${measured(pull.measure, pull.unit ?? 'rate')}).` : 'No factor lowers it noticeably.'}`}
          </p>
        </div>
      </Title>
      {subject === 'relay' && <LimitsCard tenant={tenant} relay={name} />}
      <StandingView
        tenant={tenant}
        subject={subject as Subject}
        name={name}
        days={days}
        providers={providers.length ? providers : [{value: '(all)', label: 'All providers'}]}
      />
    </Page>
  );
}

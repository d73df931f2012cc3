/** How a subject stands: its reading over time, what pulls and moved it, how much room is left, the forecast. */
import type {ReactNode} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {useBeside} from '../../shell/before';
import {useAnnotations, useEarlierReadings, useReadings, type Subject} from './queries';
import {daysBefore, firstDay} from '../../design/format';
import {Trouble} from '../../design/Notice';
import {space} from '../../design/tokens';
import {useView} from '../../shell/view';
import {AheadCard, RoomCard} from './AheadCard';
import {MovedCard} from './MovedCard';
import {NotesCard} from './NotesCard';
import {PullsCard} from './PullsCard';
import {ReadingCard} from './ReadingCard';

const Two = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1fr) 400px;
  gap: ${space.l} ${space.xl};
  @media (max-width: 1100px) {
    grid-template-columns: minmax(0, 1fr);
  }
`;
const Column = styled.div`
  display: grid;
  gap: ${space.l};
  align-content: start;
  min-width: 0;
  grid-template-columns: minmax(0, 1fr);
`;

interface StandingProps {
  tenant: string;
  subject: Subject;
  name: string;
  days: number;
  providers: {value: string; label: string}[];
  left?: ReactNode;
  right?: ReactNode;
}

export function StandingView({tenant, subject, name, days, providers, left, right}: StandingProps) {
  const view = useView(90);
  const provider = view.get('provider') || '(all)';
  const of = {subject, name, provider};
  const first = firstDay(days);
  const readings = useReadings(tenant, of, first);
  const beside = useBeside();
  const earlier = useEarlierReadings(tenant, of, daysBefore(first, days), daysBefore(first, 1), beside);
  const domain = subject === 'domain' ? name : undefined;
  const annotations = useAnnotations(tenant, first, domain);
  const shown = readings.data?.readings ?? [];
  const last = shown.at(-1);
  const here = (annotation: Schemas['Annotation']) =>
    !annotation.provider ||
    provider === '(all)' ||
    providers.some((each) => each.value === provider && each.label === annotation.provider);
  const seen = (annotations.data ?? []).filter(here);
  const from = view.get('from') || (shown.at(-8) ?? shown[0])?.day;
  const to = view.get('to') || last?.day;
  return (
    <Two>
      <Column>
        {readings.error && <Trouble error={readings.error} again={() => void readings.refetch()} />}
        <ReadingCard
          readings={shown}
          provider={provider}
          providers={providers}
          onProvider={(value) => view.set('provider', value === '(all)' ? '' : value)}
          file={`readings-${name}.csv`}
          annotations={seen}
          before={beside && earlier.data ? {days, readings: earlier.data.readings} : undefined}
          onDay={(date) => date !== to && view.set('from', date)}
        />
        {from && to && from < to && (
          <MovedCard
            tenant={tenant}
            of={of}
            first={from}
            last={to}
            onDays={(one, other) => {
              if (one !== from) view.set('from', one);
              if (other !== to) view.set('to', other);
            }}
          />
        )}
        <RoomCard tenant={tenant} of={of} />
        {left}
      </Column>
      <Column>
        <PullsCard reading={last} tenant={tenant} of={of} />
        {last?.value != null && <AheadCard key={provider} tenant={tenant} of={of} pulls={last.pulls} />}
        {right}
        <NotesCard tenant={tenant} domain={domain ?? ''} annotations={annotations.data ?? []} />
      </Column>
    </Two>
  );
}

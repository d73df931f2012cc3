/** One source: why it was judged so, what its mail showed, its addresses; and the decision whose it is. */
import {useState, type FormEvent} from 'react';
import {Link} from 'react-router';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Button} from '../../design/Button';
import {Card, Small} from '../../design/Card';
import {DataTable, type Column} from '../../design/DataTable';
import {Field} from '../../design/Field';
import {FormGrid} from '../../design/Form';
import {count, day} from '../../design/format';
import {Loading, Trouble} from '../../design/Notice';
import {Row, Stack} from '../../design/Stack';
import {font} from '../../design/tokens';
import {useClaim, useDecide, useSource} from './queries';
import {aligned, share, VerdictMark, WORDS} from './verdicts';

const Mono = styled.span`
  font: 12px ${font.mono};
`;
const Reasons = styled.ul`
  margin: 0;
  padding-left: 18px;
`;
const signatures = (each: Schemas['SourceIdentity']) =>
  each.signatures.map((s) => `${s.domain}/${s.selector || '?'} ${s.result}`).join(', ') || 'no signature';

const identities: Column<Schemas['SourceIdentity']>[] = [
  {name: 'From', value: (row) => row.header_from, show: (row) => <Mono>{row.header_from}</Mono>},
  {
    name: 'SPF',
    value: (row) => `${row.spf_domain} ${row.spf_result}`,
    show: (row) => <Mono>{`${row.spf_domain} ${row.spf_result}`}</Mono>,
  },
  {name: 'DKIM', value: signatures, show: (row) => <Mono>{signatures(row)}</Mono>},
  {name: 'Reasons', value: (row) => row.reasons.map((each) => each.kind).join(', ')},
  {name: 'Receivers', value: (row) => row.receivers.join(', ')},
  {name: 'Last day', value: (row) => row.last_day, show: (row) => day(row.last_day)},
  {name: 'Messages', value: (row) => row.messages, show: (row) => count(row.messages), number: true},
];
const failures = (tenant: string): Column<Schemas['FailureSeen']>[] => [
  {
    name: 'Failure report',
    value: (row) => row.id,
    show: (row) => <Link to={`/domains/reports?tenant=${tenant}&report=${row.id}`}>{day(row.at)}</Link>,
  },
  {name: 'Receiver', value: (row) => row.receiver},
  {name: 'Failed', value: (row) => row.failure},
  {name: 'From', value: (row) => row.header_from, show: (row) => <Mono>{row.header_from}</Mono>},
  {name: 'Subject', value: (row) => row.subject},
];
const addresses: Column<Schemas['SourceAddress']>[] = [
  {name: 'Address', value: (row) => row.ip, show: (row) => <Mono>{row.ip}</Mono>},
  {name: 'Host name', value: (row) => row.host, show: (row) => (row.host ? <Mono>{row.host}</Mono> : <Small>–</Small>)},
  {name: 'First day', value: (row) => row.first_day, show: (row) => day(row.first_day)},
  {name: 'Last day', value: (row) => row.last_day, show: (row) => day(row.last_day)},
  {
    name: 'Aligned',
    value: (row) => aligned(row.mail) / Math.max(1, row.mail.messages),
    show: (row) => share(aligned(row.mail), row.mail.messages),
    number: true,
  },
  {name: 'Messages', value: (row) => row.mail.messages, show: (row) => count(row.mail.messages), number: true},
];

interface SourceProps {
  tenant: string;
  domain: string;
  name: string;
  days: number;
  onClose: () => void;
  onClaimed: (name: string) => void;
}

export function SourceCard({tenant, domain, name, days, onClose, onClaimed}: SourceProps) {
  const source = useSource(tenant, domain, name, days);
  const close = (
    <Button tone="link" onPress={onClose}>
      Close
    </Button>
  );
  if (!source.data)
    return (
      <Card title={name} actions={close}>
        {source.error ? <Trouble error={source.error} again={() => void source.refetch()} /> : <Loading what={name} />}
      </Card>
    );
  const found = source.data;
  return (
    <Card
      title={name}
      note={`${count(found.mail.messages)} messages, ${share(aligned(found.mail), found.mail.messages)} aligned, ${day(found.first_day)} to ${day(found.last_day)}`}
      actions={close}
    >
      <Stack>
        <div>
          <Row>
            <VerdictMark verdict={found.verdict} />
            <Small>
              {found.decided_by
                ? `decided by ${found.decided_by}`
                : found.verdict === 'unknown'
                  ? 'nothing is certain enough:'
                  : `${Math.round(100 * found.certainty)} % certain, because:`}
            </Small>
          </Row>
          <Reasons>
            {found.evidence.map((each) => (
              <li key={each.kind}>
                {each.text}{' '}
                <Small>
                  for {WORDS[each.verdict].toLowerCase()}, weight {each.weight.toFixed(2)}
                </Small>
              </li>
            ))}
          </Reasons>
        </div>
        {found.failing_since && (
          <p style={{margin: 0}}>
            <b>
              More than a fifth of its mail does not align on each day since {day(found.failing_since)}
              {found.by_day[0]?.day === found.failing_since && ' or earlier'}.
            </b>{' '}
            {found.changes.length
              ? `Records changed then: ${found.changes.map((each) => `${day(each.at)} ${each.title}`).join('; ')}.`
              : 'No change of the domain’s records is known from these days.'}
          </p>
        )}
        <Decision tenant={tenant} domain={domain} source={found} onClaimed={onClaimed} />
        <DataTable
          label={`What mail of ${name} showed`}
          columns={identities}
          rows={found.identities}
          id={(row) => JSON.stringify(row)}
          file={`identities-${name.replace('/', '-')}.csv`}
        />
        {found.failures > 0 && (
          <DataTable
            label={`Failure reports about ${name}`}
            columns={failures(tenant)}
            rows={found.newest_failures}
            id={(row) => String(row.id)}
            file={`failures-${name.replace('/', '-')}.csv`}
          />
        )}
        <DataTable
          label={`Addresses of ${name}`}
          columns={addresses}
          rows={found.by_address}
          id={(row) => row.ip}
          file={`addresses-${name.replace('/', '-')}.csv`}
        />
      </Stack>
    </Card>
  );
}

function Decision({
  tenant,
  domain,
  source,
  onClaimed,
}: {
  tenant: string;
  domain: string;
  source: Schemas['SourceDetails'];
  onClaimed: (name: string) => void;
}) {
  const [claiming, setClaiming] = useState(false);
  const [relay, setRelay] = useState('');
  const [stream, setStream] = useState('');
  const claim = useClaim(tenant, domain, source.name);
  const decide = useDecide(tenant, domain, source.name);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    claim.mutate(
      {relay, stream, note: ''},
      {
        onSuccess: (now) => {
          setClaiming(false);
          onClaimed(now.name);
        },
      },
    );
  };
  return (
    <>
      <Row>
        <Button changes tone="main" onPress={() => setClaiming(!claiming)} isDisabled={claim.isPending}>
          {claiming ? 'Cancel' : 'Claim …'}
        </Button>
        {(['not_ours', 'forwarded'] as const)
          .filter((verdict) => !(source.decided_by && source.verdict === verdict))
          .map((verdict) => (
            <Button
              key={verdict}
              changes
              onPress={() => decide.mutate({verdict, note: ''})}
              isDisabled={decide.isPending}
            >
              {verdict === 'not_ours' ? 'Mark as not ours' : 'Mark as forwarding'}
            </Button>
          ))}
        {source.decided_by && (
          <Button changes onPress={() => decide.mutate({verdict: null, note: ''})} isDisabled={decide.isPending}>
            Withdraw decision
          </Button>
        )}
      </Row>
      {claiming && (
        <FormGrid onSubmit={submit}>
          <Field
            label="Relay"
            value={relay}
            onChange={setRelay}
            hint={`its addresses (${count(source.addresses)}) are added to this relay, new or known; empty: none`}
          />
          <Field
            label="Stream"
            value={stream}
            onChange={setStream}
            hint="the relay carries this stream, so that the record plan lists it; empty: none"
          />
          <footer>
            <Button type="submit" tone="main" isDisabled={claim.isPending}>
              Claim
            </Button>
          </footer>
        </FormGrid>
      )}
      {claim.error && <Trouble error={claim.error} />}
      {decide.error && <Trouble error={decide.error} />}
    </>
  );
}

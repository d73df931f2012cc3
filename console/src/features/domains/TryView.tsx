/** Would this pass? SPF for a connection, everything about a captured message, and what a receiver's report tells. */
import {useState, type FormEvent} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {useFeedbackReport, useMessageCheck, useSpfTrial} from './queries';
import {Button} from '../../design/Button';
import {Card, Small, Soft, Tag} from '../../design/Card';
import {FilePicker} from '../../design/FilePicker';
import {Field} from '../../design/Field';
import {count, plural} from '../../design/format';
import {Trouble} from '../../design/Notice';
import {colour, font, space} from '../../design/tokens';

const Page = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
  gap: ${space.l} ${space.xl};
  align-items: start;
  @media (max-width: 1100px) {
    grid-template-columns: minmax(0, 1fr);
  }
`;
const Form = styled.form`
  display: grid;
  gap: ${space.m};
  [data-row] {
    display: flex;
    flex-wrap: wrap;
    gap: ${space.m};
    > * {
      flex: 1 1 160px;
    }
  }
`;
const Steps = styled.ol`
  list-style: none;
  margin: 6px 0 0;
  padding: 0;
  font: 12px/1.5 ${font.mono};
  li {
    padding: 3px 0;
    border-top: 1px solid ${colour('line')};
    overflow-wrap: anywhere;
  }
  b {
    font-weight: 600;
  }
  i {
    font-style: normal;
    color: ${colour('soft')};
  }
`;
const Said = styled.div`
  display: grid;
  gap: 4px;
  border-top: 1px solid ${colour('line')};
  padding-top: 10px;
  margin-top: 12px;
  font-size: 13px;
`;

const LEVEL = {
  pass: 'right',
  fail: 'fault',
  permerror: 'fault',
  softfail: 'risk',
  temperror: 'risk',
  neutral: 'note',
  none: 'note',
} as const;

export function TryView({tenant, name}: {tenant: string; name: string}) {
  return (
    <Page>
      <SpfTrialCard tenant={tenant} name={name} />
      <MessageCard tenant={tenant} />
      <ReportCard tenant={tenant} />
    </Page>
  );
}

function SpfTrialCard({tenant, name}: {tenant: string; name: string}) {
  const [ip, setIp] = useState('');
  const [from, setFrom] = useState(`bounce@${name}`);
  const [helo, setHelo] = useState('');
  const [record, setRecord] = useState('');
  const trial = useSpfTrial(tenant);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    trial.mutate({ip: ip.trim(), mail_from: from.trim(), helo: helo.trim(), record: record.trim() || null});
  };
  return (
    <Card title="Would this pass SPF?" note="tests the published record, or one that you paste">
      <Form onSubmit={submit}>
        <div data-row>
          <Field label="Sending IP" mono value={ip} onChange={setIp} placeholder="192.0.2.43" isRequired />
          <Field label="Envelope sender (MAIL FROM)" mono value={from} onChange={setFrom} />
          <Field label="HELO name" mono value={helo} onChange={setHelo} placeholder="mx1.skerry.example" />
        </div>
        <Field
          label="Record to test instead of the published one"
          mono
          lines={2}
          value={record}
          onChange={setRecord}
          placeholder="v=spf1 ip4:192.0.2.40/29 -all"
        />
        <span>
          <Button type="submit" needs="viewer" tone="main" isDisabled={trial.isPending}>
            {trial.isPending ? 'Querying DNS …' : 'Test'}
          </Button>
        </span>
      </Form>
      {trial.error && <Trouble error={trial.error} />}
      {trial.data && <Trial trial={trial.data} />}
    </Card>
  );
}

const Trial = ({trial}: {trial: Schemas['SpfCheck']}) => (
  <>
    {[trial.mail_from, trial.helo].map(
      (each) =>
        each && (
          <Said key={each.identity}>
            <span>
              <Tag level={LEVEL[each.result]}>{each.result}</Tag> {each.identity === 'helo' ? 'HELO' : 'MAIL FROM'}{' '}
              <code>{each.domain}</code>
            </span>
            <span>{each.reason}</span>
            {each.explanation && <span>Explanation for the sender: {each.explanation}</span>}
            <Steps aria-label={`Steps for ${each.domain}`}>
              {each.steps.map((step, i) => (
                <li key={i} style={{paddingLeft: step.depth * 18}}>
                  <b>{step.term || step.domain}</b> {step.outcome} <i>{step.note}</i>
                  {step.asked.map((asked) => (
                    <div key={asked}>
                      <i>
                        {asked} {step.answer.join(' ')}
                      </i>
                    </div>
                  ))}
                </li>
              ))}
            </Steps>
            <Small>
              {each.lookups} of 10 lookups, {each.voids} of 2 void
            </Small>
          </Said>
        ),
    )}
  </>
);

function MessageCard({tenant}: {tenant: string}) {
  const [text, setText] = useState('');
  const [ip, setIp] = useState('');
  const [from, setFrom] = useState('');
  const check = useMessageCheck(tenant);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    check.mutate({message: text, ip: ip.trim(), mail_from: from.trim()});
  };
  return (
    <Card title="Message test" note="paste the full source, with headers; only selectors of your domains are stored">
      <Form onSubmit={submit}>
        <Field
          label="Message source"
          mono
          lines={8}
          value={text}
          onChange={setText}
          isRequired
          placeholder={'DKIM-Signature: …\nFrom: …\n\nHello'}
        />
        <div data-row>
          <Field label="Connecting IP" mono value={ip} onChange={setIp} placeholder="192.0.2.43" />
          <Field label="Envelope sender" mono value={from} onChange={setFrom} />
        </div>
        <span>
          <Button type="submit" tone="main" isDisabled={check.isPending}>
            {check.isPending ? 'Querying DNS …' : 'Examine'}
          </Button>
        </span>
      </Form>
      {check.error && <Trouble error={check.error} />}
      {check.data && <Message found={check.data} />}
    </Card>
  );
}

function ReportCard({tenant}: {tenant: string}) {
  const report = useFeedbackReport(tenant);
  return (
    <Card
      title="Report of a receiver"
      note="DMARC aggregate reports and TLS reports; only selectors of your domains are stored"
    >
      <FilePicker
        label={report.isPending ? 'Reading …' : 'Choose file'}
        hint="or drop it here: XML, JSON, gzip, zip or the message with it"
        isDisabled={report.isPending}
        onFile={(file) => report.mutate(file)}
      />
      {report.error && <Trouble error={report.error} />}
      {report.data?.kind === 'tls' && <TlsReport found={report.data} />}
      {report.data?.kind === 'aggregate' && <Report found={report.data} />}
    </Card>
  );
}

export function Report({found}: {found: Schemas['FeedbackReport']}) {
  const day = (time: string) => time.slice(0, 10);
  return (
    <>
      <Said>
        <span>
          <Tag level={found.aligned === found.messages ? 'right' : 'risk'}>
            {found.aligned.toLocaleString('en-GB')} of {found.messages.toLocaleString('en-GB')} aligned
          </Tag>{' '}
          {found.reporter} about <code>{found.domain}</code>, {day(found.begin)} to {day(found.end)}
        </span>
        <Small>
          Policy that the receiver found:{' '}
          {Object.entries(found.policy)
            .filter(([, value]) => value)
            .map(([tag, value]) => `${tag}=${value}`)
            .join('; ') || 'none'}
        </Small>
        {found.new_selectors.map((each) => (
          <b key={each.domain + each.selector} style={{fontWeight: 600}}>
            New selector {each.selector} of {each.domain}: audits check its key from now on
          </b>
        ))}
        {found.left_out > 0 && <Small>{found.left_out} rows were invalid and skipped</Small>}
      </Said>
      {found.sources.map((each) => (
        <Said key={each.source_ip}>
          <span>
            <code>{each.source_ip}</code> {each.aligned.toLocaleString('en-GB')} of{' '}
            {each.messages.toLocaleString('en-GB')} aligned; {each.dispositions.join(', ')}
          </span>
          <Small>From {each.header_from.join(', ') || 'not stated'}</Small>
          <Small>DKIM {each.signatures.join('; ') || 'none'}</Small>
          <Small>SPF {each.spf.join('; ') || 'none'}</Small>
          {(each.reasons ?? []).length > 0 && <Small>Policy not applied: {(each.reasons ?? []).join('; ')}</Small>}
        </Said>
      ))}
    </>
  );
}

export function TlsReport({found}: {found: Schemas['TlsReport']}) {
  return (
    <>
      <Said>
        <span>
          {found.reporter}, {found.begin.slice(0, 10)} to {found.end.slice(0, 10)}
        </span>
        {found.left_out > 0 && <Small>{plural(found.left_out, 'part')} could not be read</Small>}
      </Said>
      {found.policies.map((policy, i) => (
        <Said key={i}>
          <span>
            <Tag level={policy.failed ? 'risk' : 'right'}>
              {count(policy.successful)} of {count(policy.successful + policy.failed)} sessions
            </Tag>{' '}
            to <code>{policy.domain}</code> encrypted as its policy asks ({policy.policy})
          </span>
          {policy.failures.map((failure, n) => (
            <Small key={n}>
              {failure.result}: {plural(failure.sessions, 'session')}
              {failure.receiving_mx && ` to ${failure.receiving_mx}`} {failure.receiving_ip}
              {failure.reason && ` (${failure.reason})`}
            </Small>
          ))}
        </Said>
      ))}
    </>
  );
}

function Message({found}: {found: Schemas['MessageCheck']}) {
  return (
    <>
      {found.problems.map((each) => (
        <Said key={each}>
          <span>
            <Tag level="risk">header</Tag> {each}
          </span>
        </Said>
      ))}
      {found.dmarc.map((each) => (
        <Said key={each.way}>
          <span>
            <Tag level={each.result === 'pass' ? 'right' : each.result === 'fail' ? 'fault' : 'note'}>
              {each.result}
            </Tag>{' '}
            DMARC by the {each.way === 'suffix-list' ? 'public suffix list' : 'tree walk'}, {each.disposition}
          </span>
          <span>{each.reason}</span>
        </Said>
      ))}
      {found.signatures.length === 0 && (
        <Said>
          <Soft>The message is not signed with DKIM.</Soft>
        </Said>
      )}
      {found.signatures.map((each, i) => (
        <Said key={i}>
          <span>
            <Tag level={LEVEL[each.result]}>{each.result}</Tag> DKIM{' '}
            <code>
              d={each.domain} s={each.selector} {each.algorithm}
            </code>
          </span>
          <span>{each.detail}</span>
          {each.clues.map((clue) => (
            <b key={clue} style={{fontWeight: 600}}>
              {clue}
            </b>
          ))}
          {each.body_hash_computed && (
            <Small>
              {each.canonicalisation}: octets 1 to {each.body_hashed} of {each.body_octets} of the body are signed
            </Small>
          )}
          {each.unsigned.length > 0 && <Small>Not signed: {each.unsigned.join(', ')}</Small>}
          {each.notes.map((note) => (
            <Small key={note}>{note}</Small>
          ))}
        </Said>
      ))}
      <Said>
        <span>
          <Tag level={found.one_click ? 'right' : 'note'}>
            {found.one_click ? 'offered' : found.one_click === null ? 'not known' : 'not offered'}
          </Tag>{' '}
          One-click unsubscribe in signed fields (RFC 8058)
        </span>
      </Said>
      {found.spf && <Trial trial={found.spf} />}
    </>
  );
}

/** How each kind of mail is sent, what aligns, and what would happen to it. */
import {useState, type FormEvent} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {useChangeDomain, useDomain} from './queries';
import {useSenders} from '../recordplan/queries';
import {Button} from '../../design/Button';
import {CheckField} from '../../design/CheckField';
import {Confirm} from '../../design/Confirm';
import {Card, Small, Soft, Tag} from '../../design/Card';
import {Field} from '../../design/Field';
import {Notice, Trouble} from '../../design/Notice';
import {colour, font, space} from '../../design/tokens';

type Audit = Schemas['Audit'];
type Result = Schemas['StreamResult'];
type Path = Schemas['StreamPath'];

const Frame = styled.div`
  overflow-x: auto;
  table {
    width: 100%;
    border-collapse: collapse;
    font-size: 13px;
  }
  th {
    text-align: left;
    font-size: 12px;
    color: ${colour('soft')};
    padding: 4px 8px;
    border-bottom: 1px solid ${colour('line')};
    white-space: nowrap;
  }
  td {
    padding: 6px 8px;
    border-bottom: 1px solid ${colour('line')};
    vertical-align: top;
  }
  tr:last-child td {
    border-bottom: 0;
  }
  code {
    font: 12px ${font.mono};
    overflow-wrap: anywhere;
  }
`;
const DO = {deliver: 'delivered', quarantine: 'sent to spam', reject: 'refused'} as const;

/** The sentence under a stream: what would happen to its mail, by both ways of finding the organisation. */
function happens(stream: Result): string {
  const list = stream.by_list;
  const walk = stream.by_walk;
  const share = list.disposition !== 'deliver' && list.share < 100 ? ` (${list.share} % of it)` : '';
  const other =
    walk.disposition === list.disposition && walk.result === list.result
      ? ''
      : ` By the tree walk: ${walk.result}, ${DO[walk.disposition]}.`;
  const none = list.result === 'none' ? ', because no policy applies' : '';
  return `${DO[list.disposition]}${share}${none}.${other}`;
}

export function AlignmentCard({audit}: {audit: Audit}) {
  const streams = audit.streams ?? [];
  return (
    <Card title="Alignment" note="whether SPF or DKIM authenticates the domain in the From header">
      {streams.length === 0 && (
        <Notice title="No streams described yet">
          <span>Describe the envelope domain and DKIM d= of each stream below, then re-check.</span>
        </Notice>
      )}
      {streams.length > 0 && (
        <Frame>
          <table aria-label="Alignment of streams">
            <thead>
              <tr>
                <th>Stream</th>
                <th>Authenticated</th>
                <th>Relaxed</th>
                <th>Strict</th>
                <th>DMARC</th>
                <th>Disposition</th>
              </tr>
            </thead>
            <tbody>
              {streams.map((stream) => (
                <tr key={stream.name}>
                  <td>
                    {stream.name}
                    <br />
                    <Small>{stream.relay && `over ${stream.relay}`}</Small>
                    {stream.verified === false && (
                      <div>
                        <Tag level="risk">not verified</Tag>
                      </div>
                    )}
                  </td>
                  <td>
                    {stream.by_list.aligned.map((each, i) => (
                      <div key={i}>
                        {each.kind.toUpperCase()} <code>{each.domain}</code>{' '}
                        {each.passed ? <Small>passes</Small> : <Tag level="fault">does not pass</Tag>}
                        {!each.passed && each.detail && (
                          <div>
                            <Small>{each.detail}</Small>
                          </div>
                        )}
                      </div>
                    ))}
                    {stream.by_list.aligned.length === 0 && <Soft>nothing</Soft>}
                    {stream.spf.map((each) => (
                      <div key={each.ip}>
                        <Small>
                          <code>{each.ip}</code> SPF {each.result}
                        </Small>
                      </div>
                    ))}
                  </td>
                  <td>
                    {stream.by_list.aligned.map((each, i) => (
                      <div key={i}>{each.relaxed ? 'aligns' : '–'}</div>
                    ))}
                  </td>
                  <td>
                    {stream.by_list.aligned.map((each, i) => (
                      <div key={i}>{each.strict ? 'aligns' : '–'}</div>
                    ))}
                  </td>
                  <td>
                    <Tag
                      level={
                        stream.by_list.result === 'pass' ? 'right' : stream.by_list.result === 'fail' ? 'fault' : 'note'
                      }
                    >
                      {stream.by_list.result}
                    </Tag>
                  </td>
                  <td>
                    {happens(stream)}
                    <br />
                    <Small>{stream.by_list.reason}</Small>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </Frame>
      )}
      {audit.dmarc && <Policies dmarc={audit.dmarc} />}
    </Card>
  );
}

function Policies({dmarc}: {dmarc: Schemas['DmarcPicture']}) {
  const rows = [
    ['Public suffix list (RFC 7489)', dmarc.by_list],
    ['DNS tree walk (DMARCbis)', dmarc.by_walk],
  ] as const;
  return (
    <Frame style={{marginTop: 16}}>
      <table aria-label="Effective policy">
        <thead>
          <tr>
            <th>Found by</th>
            <th>Organisation</th>
            <th>Policy</th>
            <th>From</th>
            <th>Subdomains</th>
            <th>Non-existent names</th>
          </tr>
        </thead>
        <tbody>
          {rows.map(([title, found]) => (
            <tr key={title}>
              <td>{title}</td>
              <td>
                <code>{found.organisation}</code>
              </td>
              <td>
                {found.policy ? `${found.tag}=${found.policy}` : 'none'}
                {found.percent < 100 ? ` for ${found.percent} %` : ''}
                {found.testing ? ', test mode' : ''}
              </td>
              <td>
                <code>{found.owner || '–'}</code>
              </td>
              <td>{found.for_subdomains ?? '–'}</td>
              <td>{found.for_absent ?? '–'}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {dmarc.differences.map((each) => (
        <p key={each} style={{fontSize: 13}}>
          <Tag level="note">differs</Tag> {each}.
        </p>
      ))}
    </Frame>
  );
}

const Form = styled.form`
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(190px, 1fr));
  gap: ${space.m};
  align-items: end;
  border-top: 1px solid ${colour('line')};
  padding-top: ${space.m};
  margin-top: ${space.m};
`;
const EMPTY: Path = {
  name: '',
  header_from: '',
  envelope: '',
  dkim_domain: '',
  selector: '',
  relay: '',
  relays: [],
  helo: '',
  ips: [],
};
const FIELDS: [keyof Omit<Path, 'ips' | 'relay' | 'relays'>, string, string][] = [
  ['name', 'Stream', 'newsletter'],
  ['envelope', 'Envelope domain (MAIL FROM)', 'bounce.glasswort.example'],
  ['dkim_domain', 'DKIM domain (d=)', 'glasswort.example'],
  ['selector', 'Selector (s=)', 'd1'],
  ['helo', 'HELO name', 'out1.driftline.example'],
];

export function StreamSettings({tenant, name, onChanged}: {tenant: string; name: string; onChanged: () => void}) {
  const domain = useDomain(tenant, name);
  const change = useChangeDomain(tenant, name);
  const senders = useSenders(tenant);
  const lacking = (senders.data ?? []).filter((each) => each.domain === name && each.summary);
  const [draft, setDraft] = useState<Path | null>(null);
  const streams = domain.data?.streams ?? [];
  const save = (next: Path[]) => change.mutate({streams: next}, {onSuccess: () => (setDraft(null), onChanged())});
  const submit = (event: FormEvent) => {
    event.preventDefault();
    if (draft)
      save([...streams.filter((each) => each.name !== draft.name), {...draft, relays: draft.relays.filter(Boolean)}]);
  };
  return (
    <Card title="Streams" note="how this domain sends; used by audits and plans">
      {domain.error && <Trouble error={domain.error} />}
      {domain.data && streams.length === 0 && (
        <p style={{margin: '0 0 8px'}}>
          <CheckField
            label="This domain never sends mail (parked)"
            isSelected={!domain.data.sends}
            isDisabled={change.isPending}
            onChange={(parked) => change.mutate({sends: !parked}, {onSuccess: onChanged})}
          />
        </p>
      )}
      {lacking.map((each) => (
        <p key={each.stream} style={{margin: '0 0 6px', fontSize: 13}}>
          <Tag level={each.aligned === false ? 'fault' : 'risk'}>{each.stream || name}</Tag> {each.summary}
        </p>
      ))}
      {streams.length > 0 && (
        <Frame>
          <table aria-label="Streams">
            <thead>
              <tr>
                {['Stream', 'Relay', 'Envelope', 'd=', 's=', 'HELO', 'Addresses', ''].map((title) => (
                  <th key={title}>{title}</th>
                ))}
              </tr>
            </thead>
            <tbody>
              {streams.map((each) => (
                <tr key={each.name}>
                  <td>{each.name}</td>
                  <td>{[each.relay, ...each.relays].filter(Boolean).join(', ')}</td>
                  {[each.envelope, each.dkim_domain, each.selector, each.helo, (each.ips ?? []).join(' ')].map(
                    (value, i) => (
                      <td key={i}>
                        <code>{value}</code>
                      </td>
                    ),
                  )}
                  <td style={{whiteSpace: 'nowrap'}}>
                    <Button changes tone="link" onPress={() => setDraft(each)}>
                      Edit
                    </Button>{' '}
                    <Confirm
                      label="Delete"
                      tone="link"
                      title={`Delete the stream ${each.name}?`}
                      action="Delete"
                      onConfirm={() => save(streams.filter((other) => other.name !== each.name))}
                    >
                      Only its description is deleted; its mail and readings stay.
                    </Confirm>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </Frame>
      )}
      {draft ? (
        <Form onSubmit={submit}>
          {FIELDS.map(([key, label, placeholder]) => (
            <Field
              key={key}
              label={label}
              mono={key !== 'name'}
              value={draft[key] ?? ''}
              placeholder={placeholder}
              isRequired={key === 'name'}
              onChange={(value) => setDraft({...draft, [key]: value.trim()})}
            />
          ))}
          <Field
            label="Relays"
            value={[draft.relay, ...draft.relays].join(' ')}
            placeholder="driftline office-1"
            onChange={(value) => {
              const [relay = '', ...relays] = value.split(/[\s,]+/);
              setDraft({...draft, relay, relays});
            }}
            onBlur={() => setDraft({...draft, relays: draft.relays.filter(Boolean)})}
          />
          <Field
            label="Sending addresses"
            mono
            value={(draft.ips ?? []).join(' ')}
            placeholder="192.0.2.43"
            onChange={(value) => setDraft({...draft, ips: value.split(/[\s,]+/)})}
            onBlur={() => setDraft({...draft, ips: (draft.ips ?? []).filter(Boolean)})}
          />
          <span style={{display: 'flex', gap: 8}}>
            <Button type="submit" tone="main" isDisabled={change.isPending}>
              Save stream
            </Button>
            <Button onPress={() => setDraft(null)}>Cancel</Button>
          </span>
        </Form>
      ) : (
        <p>
          <Button changes onPress={() => setDraft(EMPTY)}>
            Add a stream
          </Button>
        </p>
      )}
      {change.error && <Trouble error={change.error} />}
    </Card>
  );
}

/** What people choose about a plan: the stage of the policy, where reports go, SPF when it costs too much, keys. */
import {useState, type FormEvent} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {useMakeKey, usePlanSettings} from './queries';
import {Button} from '../../design/Button';
import {Card, Small, Tag} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {CopyButton} from '../../design/CopyButton';
import {download} from '../../design/csv';
import {Field} from '../../design/Field';
import {Trouble} from '../../design/Notice';
import {RecordText} from '../../design/RecordText';
import {colour, font, space} from '../../design/tokens';
import type {Plan} from './words';

type Settings = Schemas['PlanSettings'];
const Form = styled.form`
  display: grid;
  gap: ${space.m};
  font-size: 13px;
  [data-line] {
    display: flex;
    gap: ${space.s};
    align-items: baseline;
    flex-wrap: wrap;
  }
`;
const Shares = styled.div`
  display: grid;
  gap: 8px;
  font-size: 13px;
  code {
    font: 12px ${font.mono};
    overflow-wrap: anywhere;
  }
  [data-option] {
    border-top: 1px solid ${colour('line')};
    padding-top: 6px;
    display: grid;
    gap: 4px;
    justify-items: start;
  }
`;
const STAGES = [
  {value: '', label: 'keep the one that holds'},
  {value: 'watch', label: 'watch: p=none, reports only'},
  {value: 'quarantine', label: 'quarantine: what fails goes to spam'},
  {value: 'reject', label: 'reject: what fails is refused'},
];
const ENDINGS = [
  {value: '', label: 'what is published'},
  {value: '~all', label: '~all: others are doubtful'},
  {value: '-all', label: '-all: others are forged'},
];
const POLICIES = [
  {value: '', label: 'no transport policy'},
  {value: 'testing', label: 'MTA-STS on trial'},
  {value: 'enforce', label: 'MTA-STS enforced'},
];
const WAYS = {list: 'List its addresses', move: 'Give it a subdomain', drop: 'Leave it out'} as const;

export function ChoicesCard({tenant, plan}: {tenant: string; plan: Plan}) {
  const save = usePlanSettings(tenant, plan.domain);
  const [draft, setDraft] = useState<Settings>(plan.settings);
  const change = (part: Partial<Settings>) => setDraft((now) => ({...now, ...part}));
  const submit = (event: FormEvent) => {
    event.preventDefault();
    save.mutate(draft);
  };
  const changed = JSON.stringify(draft) !== JSON.stringify(plan.settings);
  return (
    <Card title="Choices" note="what the records are made from, beside streams and relays">
      <Form onSubmit={submit}>
        <div data-line>
          Policy
          <Choice
            label="Stage of the DMARC policy"
            value={draft.stage}
            options={STAGES}
            onChange={(value) => change({stage: value as Settings['stage']})}
          />
        </div>
        <Field
          label="Aggregate reports (DMARC) go to"
          mono
          value={draft.reports_to}
          onChange={(value) => change({reports_to: value.trim()})}
          placeholder={`dmarc@${plan.zone}`}
        />
        <div data-line>
          SPF ends in
          <Choice
            label="End of the SPF record"
            value={draft.spf_ending}
            options={ENDINGS}
            onChange={(value) => change({spf_ending: value as Settings['spf_ending']})}
          />
        </div>
        <Field
          label="SPF terms to keep for senders that are no relay here"
          mono
          value={draft.keep_terms.join(' ')}
          onChange={(value) => change({keep_terms: value.split(/\s+/).filter(Boolean)})}
          placeholder="a:www.glasswort.example"
        />
        <div data-line>
          Transport
          <Choice
            label="MTA-STS"
            value={draft.mta_sts}
            options={POLICIES}
            onChange={(value) => change({mta_sts: value as Settings['mta_sts']})}
          />
        </div>
        {draft.mta_sts && (
          <Field
            label="Host that serves the policy"
            mono
            value={draft.mta_sts_host}
            onChange={(value) => change({mta_sts_host: value.trim()})}
          />
        )}
        <Field
          label="TLS reports go to"
          mono
          value={draft.tls_reports_to}
          onChange={(value) => change({tls_reports_to: value.trim()})}
        />
        <span>
          <Button type="submit" tone="main" isDisabled={!changed || save.isPending}>
            {save.isPending ? 'Planning anew …' : 'Plan with these'}
          </Button>
        </span>
      </Form>
      {save.error && <Trouble error={save.error} />}
    </Card>
  );
}

export function SpfCostCard({tenant, plan}: {tenant: string; plan: Plan}) {
  const save = usePlanSettings(tenant, plan.domain);
  const merged = plan.spf.filter((each) => each.per_relay.length > 0);
  if (merged.length === 0) return null;
  const choose = (relay: string, way: 'list' | 'move' | 'drop' | '') => {
    const others = plan.settings.spf_ways.filter((each) => each.relay !== relay);
    save.mutate({...plan.settings, spf_ways: way ? [...others, {relay, way}] : others});
  };
  return (
    <Card title="What SPF costs" note="10 look-ups are allowed (RFC 7208 §4.6.4)">
      <Shares>
        {merged.map((each) => (
          <div key={each.name} style={{display: 'grid', gap: 6}}>
            <span>
              <Tag level={each.lookups > 10 ? 'fault' : each.lookups > 8 ? 'risk' : 'right'}>{each.lookups} of 10</Tag>{' '}
              <code>{each.name}</code>
            </span>
            <Small>{each.per_relay.map((share) => `${share.relay} ${share.lookups}`).join(', ')}</Small>
            {each.problems.map((problem) => (
              <span key={problem}>{problem}</span>
            ))}
            {each.options.slice(0, 6).map((option) => (
              <div key={option.relay + option.way} data-option>
                <b style={{fontWeight: 600}}>
                  {WAYS[option.way]}: {option.relay}, {option.lookups_after} look-ups then
                </b>
                <Small>{option.price}</Small>
                <Button onPress={() => choose(option.relay, option.way)} isDisabled={save.isPending}>
                  Do that
                </Button>
              </div>
            ))}
          </div>
        ))}
        {plan.settings.spf_ways.map((each) => (
          <div key={each.relay} data-option>
            <span>
              {each.relay}: {WAYS[each.way].toLowerCase()}
            </span>
            <Button onPress={() => choose(each.relay, '')} isDisabled={save.isPending}>
              Take that back
            </Button>
          </div>
        ))}
        {save.error && <Trouble error={save.error} />}
      </Shares>
    </Card>
  );
}

export function KeyCard({tenant, name}: {tenant: string; name: string}) {
  const [selector, setSelector] = useState('');
  const [kind, setKind] = useState<'rsa2048' | 'ed25519'>('rsa2048');
  const make = useMakeKey(tenant, name);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    make.mutate({selector: selector.trim(), kind});
  };
  const made = make.data;
  return (
    <Card title="Make a key" note="the private half is shown once and not kept">
      <Form onSubmit={submit}>
        <Field label="Selector" mono value={selector} onChange={setSelector} placeholder="g2" isRequired />
        <div data-line>
          <Choice
            label="Kind of key"
            value={kind}
            options={[
              {value: 'rsa2048', label: 'RSA 2048'},
              {value: 'ed25519', label: 'Ed25519, only beside an RSA key'},
            ]}
            onChange={(value) => setKind(value as typeof kind)}
          />
          <Button type="submit" isDisabled={make.isPending}>
            {make.isPending ? 'Making it …' : 'Make it'}
          </Button>
        </div>
      </Form>
      {make.error && <Trouble error={make.error} />}
      {made && (
        <div style={{display: 'grid', gap: 8, marginTop: 12}} role="status">
          <b>The private half of {made.name}. Take it now.</b>
          <RecordText text={made.private_key} />
          <span style={{display: 'flex', gap: 8}}>
            <CopyButton value={made.private_key}>Copy private key</CopyButton>
            <Button onPress={() => download(`${made.name}.pem`, made.private_key, 'application/x-pem-file')}>
              Download
            </Button>
            <Button onPress={() => make.reset()}>I have it</Button>
          </span>
        </div>
      )}
    </Card>
  );
}

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
  {value: '', label: 'keep the current policy'},
  {value: 'watch', label: 'p=none: reports only'},
  {value: 'quarantine', label: 'p=quarantine: failing mail goes to spam'},
  {value: 'reject', label: 'p=reject: failing mail is rejected'},
];
const ENDINGS = [
  {value: '', label: 'as published'},
  {value: '~all', label: '~all: softfail for other senders'},
  {value: '-all', label: '-all: fail for other senders'},
];
const POLICIES = [
  {value: '', label: 'no MTA-STS'},
  {value: 'testing', label: 'MTA-STS, testing mode'},
  {value: 'enforce', label: 'MTA-STS, enforce mode'},
];
const WAYS = {list: 'List its IPs', move: 'Move it to a subdomain', drop: 'Cancel out'} as const;

export function ChoicesCard({tenant, plan}: {tenant: string; plan: Plan}) {
  const save = usePlanSettings(tenant, plan.domain);
  const [draft, setDraft] = useState<Settings>(plan.settings);
  const change = (part: Partial<Settings>) => setDraft((now) => ({...now, ...part}));
  const submit = (event: FormEvent) => {
    event.preventDefault();
    save.mutate(draft);
  };
  // Typed with spaces: kept as typed, so that a space at the end does not vanish.
  const [terms, setTerms] = useState(draft.keep_terms.join(' '));
  const changed = JSON.stringify(draft) !== JSON.stringify(plan.settings);
  return (
    <Card title="Options" note="inputs of the plan besides streams and relays">
      <Form onSubmit={submit}>
        <Choice
          field
          label="DMARC policy"
          value={draft.stage}
          options={STAGES}
          onChange={(value) => change({stage: value as Settings['stage']})}
        />
        <Field
          label="Recipients of DMARC aggregate reports"
          mono
          value={draft.reports_to}
          onChange={(value) => change({reports_to: value.trim()})}
          placeholder={`dmarc@${plan.zone}`}
        />
        <Choice
          field
          label="SPF all term"
          value={draft.spf_ending}
          options={ENDINGS}
          onChange={(value) => change({spf_ending: value as Settings['spf_ending']})}
        />
        <Field
          label="SPF terms to keep for other senders"
          mono
          value={terms}
          onChange={(text) => {
            setTerms(text);
            change({keep_terms: text.split(/\s+/).filter(Boolean)});
          }}
          placeholder="a:www.glasswort.example"
        />
        <Choice
          field
          label="MTA-STS"
          value={draft.mta_sts}
          options={POLICIES}
          onChange={(value) => change({mta_sts: value as Settings['mta_sts']})}
        />
        {draft.mta_sts && (
          <Field
            label="Host that serves the MTA-STS policy"
            mono
            value={draft.mta_sts_host}
            onChange={(value) => change({mta_sts_host: value.trim()})}
          />
        )}
        <Field
          label="Recipients of TLS reports"
          mono
          value={draft.tls_reports_to}
          onChange={(value) => change({tls_reports_to: value.trim()})}
        />
        <span>
          <Button type="submit" tone="main" isDisabled={!changed || save.isPending}>
            {save.isPending ? 'Planning …' : 'Save and plan'}
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
    <Card title="SPF lookups" note="the limit is 10 (RFC 7208 §4.6.4)">
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
            {each.options.map((option) => (
              <div key={option.relay + option.way} data-option>
                <b style={{fontWeight: 600}}>
                  {WAYS[option.way]}: {option.relay}, {option.lookups_after} lookups
                </b>
                <Small>{option.price}</Small>
                <Button onPress={() => choose(option.relay, option.way)} isDisabled={save.isPending}>
                  Apply
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
              Undo
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
    make.mutate({selector: selector.trim(), kind, replace: false});
  };
  const made = make.data;
  return (
    <Card title="Generate a DKIM key" note="the private key is shown once and not stored">
      <Form onSubmit={submit}>
        <Field label="Selector" mono value={selector} onChange={setSelector} placeholder="g2" isRequired />
        <div data-line>
          <Choice
            field
            label="Key type"
            value={kind}
            options={[
              {value: 'rsa2048', label: 'RSA 2048'},
              {value: 'ed25519', label: 'Ed25519, in addition to an RSA key'},
            ]}
            onChange={(value) => setKind(value as typeof kind)}
          />
          <Button type="submit" isDisabled={make.isPending}>
            {make.isPending ? 'Generating …' : 'Generate'}
          </Button>
        </div>
      </Form>
      {make.error && <Trouble error={make.error} />}
      {made && (
        <div style={{display: 'grid', gap: 8, marginTop: 12}} role="status">
          <b>Private key of {made.name}: save it now.</b>
          <RecordText text={made.private_key} />
          <span style={{display: 'flex', gap: 8}}>
            <CopyButton value={made.private_key}>Copy private key</CopyButton>
            <Button onPress={() => download(`${made.name}.pem`, made.private_key, 'application/x-pem-file')}>
              Download
            </Button>
            <Button onPress={() => make.reset()}>Close</Button>
          </span>
        </div>
      )}
    </Card>
  );
}

/** The policy as a form: rules in their order, each opened to edit it, and what is proposed. */
import {useState} from 'react';
import type {Schemas} from '../../api/client';
import {Button} from '../../design/Button';
import {CheckField} from '../../design/CheckField';
import {Choice} from '../../design/Choice';
import {DataTable} from '../../design/DataTable';
import {Field} from '../../design/Field';
import {FormGrid} from '../../design/Form';
import {words} from '../../design/format';
import {Several} from '../../design/Several';
import {Row} from '../../design/Stack';
import {CAUSES} from '../mailflow/causes';
import {does, Text, when} from './policy';
import {REASONS} from './words';

type Policy = Schemas['SuppressionPolicy'];
type Rule = Schemas['PolicyRule'];
type Proposals = Schemas['ProposalSettings'];

const capital = (text: string) => text[0]!.toUpperCase() + text.slice(1);
const options = (...values: string[]) => values.map((value) => ({value, label: capital(words(value))}));
const KINDS = options('bounced', 'delayed', 'complained', 'unsubscribed');
const ACTIONS = [
  {value: 'hold', label: 'Suppress the address'},
  {value: 'propose', label: 'Propose to suppress it'},
  {value: 'wait', label: 'Advise when to retry'},
  {value: 'nothing', label: 'Do nothing'},
];
const PERMANENCE = [
  {value: '', label: 'Any'},
  {value: 'transient', label: 'Transient only'},
  {value: 'permanent', label: 'Permanent only'},
];
const SCOPES = [
  {value: 'tenant', label: 'All mail'},
  {value: 'domain', label: 'The sending domain'},
  {value: 'stream', label: 'The stream'},
];
const names = (text: string) =>
  text
    .split(',')
    .map((each) => each.trim())
    .filter(Boolean);
// What is not a number goes to the service as it is: its answer names the rule, the field and what it expects.
const number = (text: string): number =>
  text.trim() === '' || Number.isNaN(Number(text)) ? (text as unknown as number) : Number(text);
const PROPOSALS: {name: keyof Omit<Proposals, 'role_addresses'>; label: string; hint: string}[] = [
  {name: 'no_life_sends', label: 'Unresponsive after, deliveries', hint: 'without an open or click; 0: off'},
  {name: 'no_life_days', label: 'Unresponsive after, days', hint: 'both must be reached'},
  {name: 'revived_after_days', label: 'Possible trap after, days', hint: 'not existing, then accepting mail; 0: off'},
];
const START: Rule = {
  name: '',
  act: 'hold',
  kinds: ['bounced'],
  causes: [],
  permanence: '',
  streams: [],
  providers: [],
  reason: 'invalid_address',
  scope: 'tenant',
  whole_domain: false,
  times: 1,
  over_days: 0,
  within_days: 60,
  for_days: null,
  longer: 1,
  longest_days: 365,
  ends_with_delivery: false,
  wait_hours: [],
};

export function PolicyEditor({policy, onChange}: {policy: Policy; onChange: (policy: Policy) => void}) {
  const [open, setOpen] = useState<number | null>(null);
  const rules = policy.rules;
  const proposals = policy.proposals!;
  const set = (changed: Rule[]) => onChange({...policy, rules: changed});
  const swap = (at: number, with_: number) => {
    const changed = [...rules];
    [changed[at], changed[with_]] = [changed[with_]!, changed[at]!];
    setOpen(null);
    set(changed);
  };
  return (
    <>
      <DataTable
        label="Rules to edit"
        columns={[
          {name: 'Order', value: (row: {at: number}) => row.at + 1, number: true},
          {name: 'Rule', value: (row) => row.rule.name || '(new)'},
          {name: 'When', value: (row) => when(row.rule), show: (row) => <Text>{when(row.rule)}</Text>},
          {name: 'Action', value: (row) => does(row.rule), show: (row) => <Text>{does(row.rule)}</Text>},
          {
            name: '',
            value: () => '',
            tool: true,
            show: ({at, rule}) => (
              <Row style={{flexWrap: 'nowrap'}}>
                <Button tone="link" aria-label={`Edit ${rule.name}`} onPress={() => setOpen(open === at ? null : at)}>
                  {open === at ? 'Close' : 'Edit'}
                </Button>
                <Button
                  tone="link"
                  aria-label={`Move ${rule.name} up`}
                  isDisabled={at === 0}
                  onPress={() => swap(at, at - 1)}
                >
                  Up
                </Button>
                <Button
                  tone="link"
                  aria-label={`Move ${rule.name} down`}
                  isDisabled={at === rules.length - 1}
                  onPress={() => swap(at, at + 1)}
                >
                  Down
                </Button>
                <Button
                  tone="link"
                  aria-label={`Delete ${rule.name}`}
                  isDisabled={rules.length === 1}
                  onPress={() => {
                    setOpen(null);
                    set(rules.filter((_, other) => other !== at));
                  }}
                >
                  Delete
                </Button>
              </Row>
            ),
          },
        ]}
        rows={rules.map((rule, at) => ({at, rule}))}
        id={(row) => String(row.at)}
        file="policy-rules.csv"
      />
      <Row style={{margin: '8px 0 12px'}}>
        <Button
          onPress={() => {
            set([...rules, START]);
            setOpen(rules.length);
          }}
        >
          Add rule
        </Button>
      </Row>
      {open !== null && rules[open] && (
        <RuleForm
          rule={rules[open]}
          onChange={(rule) => set(rules.map((each, at) => (at === open ? rule : each)))}
          onClose={() => setOpen(null)}
        />
      )}
      <FormGrid aria-label="Proposals" onSubmit={(event) => event.preventDefault()}>
        <b data-wide>Proposals, searched for once a day</b>
        {PROPOSALS.map(({name, label, hint}) => (
          <Field
            key={name}
            label={label}
            hint={hint}
            value={String(proposals[name] ?? '')}
            onChange={(text) => onChange({...policy, proposals: {...proposals, [name]: number(text)}})}
          />
        ))}
        <CheckField
          label="Propose role addresses"
          isSelected={proposals.role_addresses}
          onChange={(role_addresses) => onChange({...policy, proposals: {...proposals, role_addresses}})}
        />
      </FormGrid>
    </>
  );
}

interface RuleFormProps {
  rule: Rule;
  onChange: (rule: Rule) => void;
  onClose: () => void;
}

function RuleForm({rule, onChange, onClose}: RuleFormProps) {
  const set = (part: Partial<Rule>) => onChange({...rule, ...part});
  // Lists are typed with commas: kept as typed, so that a comma at the end does not vanish.
  const [streams, setStreams] = useState((rule.streams ?? []).join(', '));
  const [providers, setProviders] = useState((rule.providers ?? []).join(', '));
  const [waits, setWaits] = useState((rule.wait_hours ?? []).join(', '));
  const figure = (name: 'times' | 'over_days' | 'within_days' | 'longer' | 'longest_days', label: string) => (
    <Field label={label} value={String(rule[name] ?? '')} onChange={(text) => set({[name]: number(text)})} />
  );
  const holds = rule.act === 'hold' || rule.act === 'propose';
  return (
    <FormGrid aria-label={`Rule ${rule.name}`} onSubmit={(event) => event.preventDefault()} style={{marginBottom: 16}}>
      <b data-wide>Rule {rule.name || '(new)'}</b>
      <Field label="Name" value={rule.name} onChange={(name) => set({name})} isRequired />
      <Choice
        field
        label="Action"
        value={rule.act}
        options={ACTIONS}
        onChange={(act) => set({act: act as Rule['act']})}
      />
      <Choice
        field
        label="Rejections"
        value={rule.permanence ?? ''}
        options={PERMANENCE}
        onChange={(permanence) => set({permanence: permanence as Rule['permanence']})}
      />
      <Several
        label="Events"
        none="any event"
        add="Add event"
        value={rule.kinds ?? []}
        options={KINDS}
        onChange={(kinds) => set({kinds: kinds as Rule['kinds']})}
      />
      <Several
        label="Causes"
        none="any cause"
        add="Add cause"
        value={rule.causes ?? []}
        options={options(...CAUSES)}
        onChange={(causes) => set({causes: causes as Rule['causes']})}
      />
      <Field
        label="Streams"
        hint="separated by commas; empty: all"
        value={streams}
        onChange={(text) => {
          setStreams(text);
          set({streams: names(text)});
        }}
      />
      <Field
        label="Mailbox providers"
        hint="separated by commas; empty: all"
        value={providers}
        onChange={(text) => {
          setProviders(text);
          set({providers: names(text)});
        }}
      />
      {rule.act !== 'nothing' && (
        <Field
          label="Hours to wait"
          hint="after the first rejection, the second, …, separated by commas"
          value={waits}
          onChange={(text) => {
            setWaits(text);
            set({wait_hours: names(text).map(number)});
          }}
        />
      )}
      {holds && (
        <>
          <Choice
            field
            label="Reason of the entry"
            value={rule.reason ?? 'invalid_address'}
            options={REASONS}
            onChange={(reason) => set({reason: reason as Rule['reason']})}
          />
          <Choice
            field
            label="Applies to"
            value={rule.scope ?? 'tenant'}
            options={SCOPES}
            onChange={(scope) => set({scope: scope as Rule['scope']})}
          />
          {figure('times', 'After, messages')}
          {figure('over_days', 'First to last of them, days')}
          {figure('within_days', 'Counted within, days')}
          <Field
            label="Ends after, days"
            hint="empty: no end"
            value={rule.for_days == null ? '' : String(rule.for_days)}
            onChange={(text) => set({for_days: text.trim() === '' ? null : number(text)})}
          />
          {figure('longer', 'Factor at each return')}
          {figure('longest_days', 'At most, days')}
          <CheckField
            label="Whole domain"
            isSelected={rule.whole_domain}
            onChange={(whole_domain) => set({whole_domain})}
          />
          <CheckField
            label="A delivery ends the entry"
            isSelected={rule.ends_with_delivery}
            onChange={(ends_with_delivery) => set({ends_with_delivery})}
          />
        </>
      )}
      <footer>
        <Button onPress={onClose}>Close</Button>
      </footer>
    </FormGrid>
  );
}

/** Rules of the examination as they count for the tenant, its words, whether links are followed, and its text model. */
import {useState, type FormEvent} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Button} from '../../design/Button';
import {Card, Small, Soft, Tag} from '../../design/Card';
import {CheckField} from '../../design/CheckField';
import {Choice} from '../../design/Choice';
import {DataTable, type Column} from '../../design/DataTable';
import {Field} from '../../design/Field';
import {FormGrid} from '../../design/Form';
import {Loading, Trouble} from '../../design/Notice';
import {Rows, type RowValues} from '../../design/Rows';
import {Row, Stack} from '../../design/Stack';
import {useAssayRules, useAssaySettings, useLearn, useSaveAssaySettings, useTextModel} from './queries';

type Rule = Schemas['AssayRuleView'];
type Settings = Schemas['AssaySettings'];

const Title = styled.span`
  display: block;
  min-width: 30ch;
  white-space: normal;
`;
const adjusted = (rule: Rule) => rule.off || rule.level !== rule.shipped_level || rule.points !== rule.shipped_points;
const lines = (text: string) =>
  text
    .split('\n')
    .map((each) => each.trim())
    .filter(Boolean);

export function RulesCard({tenant}: {tenant: string}) {
  const rules = useAssayRules(tenant);
  const settings = useAssaySettings(tenant);
  const [group, setGroup] = useState('adjusted');
  const [open, setOpen] = useState('');
  if (rules.isPending || settings.isPending) return <Loading what="rules" />;
  if (rules.error) return <Trouble error={rules.error} again={() => void rules.refetch()} />;
  if (settings.error) return <Trouble error={settings.error} again={() => void settings.refetch()} />;
  const groups = [...new Set(rules.data.map((each) => each.group))];
  const shown = rules.data.filter((each) => (group === 'adjusted' ? adjusted(each) : each.group === group));
  const chosen = rules.data.find((each) => each.rule === open);
  const columns: Column<Rule>[] = [
    {name: 'Rule', value: (row) => row.title, show: (row) => <Title>{row.title.replace(/\{\w+\}/g, '…')}</Title>},
    {name: 'Level', value: (row) => row.level, show: (row) => <Tag level={row.level}>{row.level}</Tag>},
    {
      name: 'Points',
      value: (row) => (row.off ? 0 : row.points),
      show: (row) => (row.off ? 'off' : row.points),
      number: true,
    },
    {
      name: 'Ships with',
      value: (row) => `${row.shipped_level} ${row.shipped_points}`,
      show: (row) => (adjusted(row) ? `${row.shipped_level}, ${row.shipped_points}` : <Small>the same</Small>),
    },
    {
      name: 'Adjust',
      value: () => '',
      tool: true,
      show: (row) => (
        <Button tone="link" needs="admin" onPress={() => setOpen(open === row.rule ? '' : row.rule)}>
          {open === row.rule ? 'Close' : 'Adjust'}
        </Button>
      ),
    },
  ];
  return (
    <Card
      title="Rules and words"
      note="points that each rule takes off a mark; messages keep their mark until a re-check"
    >
      <Stack>
        <Row>
          <Choice
            label="Rules"
            value={group}
            options={[
              {value: 'adjusted', label: 'Adjusted rules'},
              ...groups.map((each) => ({value: each, label: `${each[0]!.toUpperCase()}${each.slice(1)}`})),
            ]}
            onChange={setGroup}
          />
          <Small>{rules.data.length} rules</Small>
        </Row>
        {shown.length === 0 ? (
          <Soft>No rule is adjusted. Choose a group to see its rules.</Soft>
        ) : (
          <DataTable label="Rules" columns={columns} rows={shown} id={(row) => row.rule} file={`rules-${tenant}.csv`} />
        )}
        {chosen && (
          <AdjustForm
            key={chosen.rule}
            tenant={tenant}
            rule={chosen}
            settings={settings.data}
            onDone={() => setOpen('')}
          />
        )}
        <OwnRules key={`own ${JSON.stringify(settings.data)}`} tenant={tenant} settings={settings.data} />
        <Words key={JSON.stringify(settings.data)} tenant={tenant} settings={settings.data} />
        <Model tenant={tenant} />
      </Stack>
    </Card>
  );
}

interface AdjustProps {
  tenant: string;
  rule: Rule;
  settings: Settings;
  onDone: () => void;
}

function AdjustForm({tenant, rule, settings, onDone}: AdjustProps) {
  const save = useSaveAssaySettings(tenant);
  const [level, setLevel] = useState<string>(rule.level);
  const [points, setPoints] = useState(String(rule.points));
  const [off, setOff] = useState(rule.off);
  const put = (change: Schemas['RuleAdjustment'] | null) => {
    const others = Object.fromEntries(Object.entries(settings.rules ?? {}).filter(([name]) => name !== rule.rule));
    save.mutate({...settings, rules: change ? {...others, [rule.rule]: change} : others}, {onSuccess: onDone});
  };
  return (
    <div>
      <FormGrid
        needs="admin"
        onSubmit={(event: FormEvent) => {
          event.preventDefault();
          put({level: level as Rule['level'], points: Number(points), off});
        }}
      >
        <Choice
          field
          label="Level"
          value={level}
          options={['fault', 'risk', 'note'].map((value) => ({value, label: value}))}
          onChange={setLevel}
        />
        <Field label="Points" value={points} onChange={setPoints} />
        <CheckField label="Off: does not count" isSelected={off} onChange={setOff} />
        <footer>
          <Button type="submit" tone="main" changes needs="admin" isDisabled={save.isPending}>
            Save
          </Button>
          <Button changes needs="admin" onPress={() => put(null)}>
            Reset
          </Button>
          <Button onPress={onDone}>Cancel</Button>
        </footer>
      </FormGrid>
      <Small>
        {rule.effect} {rule.remedy} {rule.reference}
      </Small>
      {save.error && <Trouble error={save.error} />}
    </div>
  );
}

type Own = Schemas['OwnAssayRule'];
const WHERE = [
  {value: 'subject', label: 'Subject'},
  {value: 'text', label: 'Text that people read'},
  {value: 'html', label: 'HTML source'},
  {value: 'header', label: 'Header field'},
];
const LEVELS = ['fault', 'risk', 'note'].map((value) => ({value, label: value}));
const rowOf = (own: Own): RowValues => ({
  ...own,
  header: own.header ?? '',
  remedy: own.remedy ?? '',
  level: own.level ?? 'risk',
  points: String(own.points),
  absent: own.absent ? 'yes' : '',
});
const ownOf = (row: RowValues): Own => ({
  rule: row.rule ?? '',
  where: (row.where || 'text') as Own['where'],
  header: row.header ?? '',
  pattern: row.pattern ?? '',
  absent: row.absent === 'yes',
  level: (row.level || 'risk') as Own['level'],
  points: Number(row.points) || 0,
  title: row.title ?? '',
  remedy: row.remedy ?? '',
});

function OwnRules({tenant, settings}: {tenant: string; settings: Settings}) {
  const save = useSaveAssaySettings(tenant);
  const [rows, setRows] = useState((settings.own_rules ?? []).map(rowOf));
  return (
    <FormGrid
      needs="admin"
      onSubmit={(event: FormEvent) => {
        event.preventDefault();
        save.mutate({...settings, own_rules: rows.map(ownOf)});
      }}
    >
      <div style={{gridColumn: '1 / -1'}}>
        <Rows
          label="Rules of your own"
          hint="each applies where its pattern is found; with “absent”, where it is not"
          add="Add a rule"
          fields={[
            {name: 'rule', label: 'Name', placeholder: 'own-imprint'},
            {name: 'where', label: 'In', options: WHERE},
            {name: 'header', label: 'Field', placeholder: 'X-Mailer'},
            {name: 'pattern', label: 'Pattern', placeholder: 'imprint'},
            {name: 'absent', label: 'Absent', check: true},
            {name: 'level', label: 'Level', options: LEVELS},
            {name: 'points', label: 'Points', width: '64px'},
            {name: 'title', label: 'Title'},
          ]}
          rows={rows}
          onChange={setRows}
          most={100}
        />
      </div>
      {(rows.length > 0 || (settings.own_rules ?? []).length > 0) && (
        <footer>
          <Button type="submit" changes needs="admin" isDisabled={save.isPending}>
            Save own rules
          </Button>
          {save.error && <Trouble error={save.error} />}
        </footer>
      )}
    </FormGrid>
  );
}

function Words({tenant, settings}: {tenant: string; settings: Settings}) {
  const save = useSaveAssaySettings(tenant);
  const [added, setAdded] = useState((settings.words_added ?? []).join('\n'));
  const [removed, setRemoved] = useState((settings.words_removed ?? []).join('\n'));
  const [follow, setFollow] = useState(settings.follow_links ?? false);
  const [opening, setOpening] = useState(settings.open_unsubscribe ?? false);
  return (
    <FormGrid
      needs="admin"
      onSubmit={(event: FormEvent) => {
        event.preventDefault();
        save.mutate({
          ...settings,
          words_added: lines(added),
          words_removed: lines(removed),
          follow_links: follow,
          open_unsubscribe: opening,
        });
      }}
    >
      <Field
        label="Weak words of your own"
        hint="one word or phrase on a line"
        lines={3}
        value={added}
        onChange={setAdded}
      />
      <Field
        label="Words that do not count"
        hint="of those that ship"
        lines={3}
        value={removed}
        onChange={setRemoved}
      />
      <div>
        <CheckField label="Follow links" isSelected={follow} onChange={setFollow} />
        <Small>
          Asks with HEAD whether links answer and where they lead; never links to unsubscribe. Some trackers count even
          that as a click.
        </Small>
        <CheckField label="Open the one-click unsubscribe address" isSelected={opening} onChange={setOpening} />
        <Small>With GET, as filters do. An address that acts on GET unsubscribes the recipient of the message.</Small>
      </div>
      <footer>
        <Button type="submit" changes needs="admin" isDisabled={save.isPending}>
          {save.isPending ? 'Saving …' : save.isSuccess ? 'Saved' : 'Save words'}
        </Button>
        {save.error && <Trouble error={save.error} />}
      </footer>
    </FormGrid>
  );
}

function Model({tenant}: {tenant: string}) {
  const model = useTextModel(tenant);
  const learn = useLearn(tenant);
  if (!model.data) return null;
  const {ready, reason, right, of, messages, words} = model.data;
  return (
    <div>
      <b>Text model</b> <Small>learned from your own messages whose campaigns later went well or badly</Small>
      <p style={{margin: '4px 0 8px'}}>
        {ready ? (
          <>
            Classified {right} of {of} campaigns correctly that it was not shown ({Math.round((100 * right) / of)} %),
            from {messages} messages. Strongest pieces:{' '}
            {words
              .slice(0, 8)
              .map((each) => `“${each.text}”`)
              .join(', ')}
            .
          </>
        ) : (
          <>Silent: {reason}.</>
        )}
      </p>
      <Button changes isDisabled={learn.isPending} onPress={() => learn.mutate(undefined)}>
        {learn.isPending ? 'Learning …' : 'Learn now'}
      </Button>
      {learn.error && <Trouble error={learn.error} />}
    </div>
  );
}

/** Actions on several items at once: acknowledge, assign, snooze, re-check, reopen; most can be undone. */
import {useState} from 'react';
import type {Schemas} from '../../api/client';
import {useActOnAll, useMembers} from './queries';
import {WHILE} from './WorkItemCard';
import {Button} from '../../design/Button';
import {Choice} from '../../design/Choice';
import {useDone} from '../../design/Done';
import {Field} from '../../design/Field';
import {plural} from '../../design/format';
import {SelectionBar, type Selection} from '../../design/selection';

type Act = Schemas['WorkAct'];
const SAID: Record<Act['act'], string> = {
  acknowledge: 'acknowledged',
  assign: 'assigned',
  comment: 'commented on',
  snooze: 'snoozed',
  recheck: 're-checked',
  reopen: 'reopened',
  undo: 'as before',
};
const UNDONE: Act['act'][] = ['acknowledge', 'assign', 'snooze', 'reopen'];

/** Acts on items by their `tenant/id`, and says what came of it. */
export function useActs() {
  const act = useActOnAll();
  const tell = useDone();
  const on = async (ids: string[], what: Act): Promise<void> => {
    if (act.isPending) return;
    const items = ids.map((each) => ({tenant: each.split('/')[0]!, id: Number(each.split('/')[1])}));
    const done = await act.mutateAsync({items, act: what}).catch(() => null);
    if (!done) return; // `error` says why
    const changed = done.changed.map((item) => ({tenant: item.tenant, id: item.id}));
    const solved = what.act === 'recheck' ? done.changed.filter((item) => item.state === 'resolved').length : 0;
    const failed = done.problems.length ? ` ${plural(done.problems.length, 'item')} not: ${done.problems[0]}.` : '';
    tell({
      text: `${plural(changed.length, 'item')} ${SAID[what.act]}${what.act === 'recheck' ? `, ${solved} resolved` : ''}.${failed}`,
      undo:
        UNDONE.includes(what.act) && changed.length
          ? async () => {
              const back = await act.mutateAsync({items: changed, act: {act: 'undo', text: '', to: ''}});
              const kept = back.problems.length
                ? ` ${plural(back.problems.length, 'item')} not: ${back.problems[0]}.`
                : '';
              return `${plural(back.changed.length, 'item')} as before.${kept}`;
            }
          : undefined,
    });
  };
  return {on, isPending: act.isPending, error: act.error};
}

interface SelectedItemsProps {
  selection: Selection;
  acts: ReturnType<typeof useActs>;
  /** Whose members can be chosen; without one tenant, items are not assigned. */
  tenant: string;
}

export function SelectedItems({selection, acts, tenant}: SelectedItemsProps) {
  const [reason, setReason] = useState('');
  const [days, setDays] = useState('7');
  const does = (act: Act) => void acts.on(selection.ids, act);
  return (
    <SelectionBar selection={selection} of="items">
      <Button isDisabled={acts.isPending} onPress={() => does({act: 'acknowledge', text: '', to: ''})}>
        Acknowledge
      </Button>
      <Button isDisabled={acts.isPending} onPress={() => does({act: 'recheck', text: '', to: ''})}>
        {acts.isPending ? 'Working …' : 'Re-check'}
      </Button>
      <Button isDisabled={acts.isPending} onPress={() => does({act: 'reopen', text: '', to: ''})}>
        Reopen
      </Button>
      {tenant && <Assign tenant={tenant} onAssign={(to) => does({act: 'assign', text: '', to})} />}
      <Field label="Reason" value={reason} onChange={setReason} placeholder="The list is cleaned on Monday" />
      <Choice label="Snooze for" value={days} options={WHILE} onChange={setDays} />
      <Button
        isDisabled={acts.isPending || !reason.trim()}
        onPress={() => {
          const until = new Date(Date.now() + Number(days) * 86_400_000).toISOString();
          does({act: 'snooze', text: reason, to: '', until});
        }}
      >
        Snooze
      </Button>
    </SelectionBar>
  );
}

function Assign({tenant, onAssign}: {tenant: string; onAssign: (to: string) => void}) {
  const members = useMembers(tenant);
  const people = (members.data ?? []).map((each) => ({value: each.email, label: each.name || each.email}));
  return (
    <Choice
      label="Assign to"
      value=""
      shown="Assign"
      options={[{value: 'nobody', label: 'nobody'}, ...people]}
      onChange={(to) => onAssign(to === 'nobody' ? '' : to)}
    />
  );
}

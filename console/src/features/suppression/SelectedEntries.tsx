/** Lifting several entries at once. What was lifted can be suppressed again, as it was. */
import {useState} from 'react';
import type {Schemas} from '../../api/client';
import {useHold, useLift} from './queries';
import {Button} from '../../design/Button';
import {CheckField} from '../../design/CheckField';
import {useDone} from '../../design/Done';
import {Field} from '../../design/Field';
import {count} from '../../design/format';
import {Trouble} from '../../design/Notice';
import {SelectionBar, type Selection} from '../../design/selection';

type Entry = Schemas['SuppressionEntry'];
const MOST = 1000; // of one request

/** Entries as they were, grouped by all that one request says of them. */
function asNewEntries(entries: Entry[]): Schemas['NewEntries'][] {
  const groups = new Map<string, Schemas['NewEntries']>();
  for (const entry of entries) {
    if (!entry.address) continue; // only its digest is known
    const {reason, scope, scope_name = '', until = null, note} = entry;
    const key = JSON.stringify([reason, scope, scope_name, until, note]);
    const group = groups.get(key) ?? {addresses: [], reason, scope, scope_name, until, note};
    group.addresses.push(entry.address);
    groups.set(key, group);
  }
  return [...groups.values()];
}

export function SelectedEntries({tenant, selection, rows}: {tenant: string; selection: Selection; rows: Entry[]}) {
  const lift = useLift(tenant);
  const hold = useHold(tenant);
  const tell = useDone();
  const [why, setWhy] = useState('');
  const [sure, setSure] = useState(false);
  const chosen = rows.filter((row) => selection.has(row.id));
  const complaints = chosen.filter((row) => row.reason === 'complaint').length;
  const submit = () =>
    lift.mutate(
      {ids: chosen.map((row) => row.id), address: '', why: why.trim(), despite_complaint: sure},
      {
        onSuccess: (lifted) => {
          selection.clear();
          tell({
            text: `${count(lifted.entries.length)} ${lifted.entries.length === 1 ? 'entry' : 'entries'} lifted.`,
            undo: async () => {
              let back = 0;
              for (const group of asNewEntries(chosen)) back += (await hold.mutateAsync(group)).changed;
              return `${back} of ${chosen.length} suppressed again.`;
            },
          });
        },
      },
    );
  return (
    <SelectionBar selection={selection} of="entries">
      <Field label="Reason for lifting" value={why} onChange={setWhy} placeholder="confirmed by the box office" />
      {complaints > 0 && (
        <CheckField
          label={`${complaints} complained, but have since opted in again`}
          isSelected={sure}
          onChange={setSure}
        />
      )}
      <Button
        changes
        onPress={submit}
        isDisabled={lift.isPending || why.trim().length < 3 || (complaints > 0 && !sure) || chosen.length > MOST}
      >
        Lift {chosen.length}
      </Button>
      {chosen.length > MOST && <span>At most {MOST} at a time.</span>}
      {lift.error && <Trouble error={lift.error} />}
    </SelectionBar>
  );
}

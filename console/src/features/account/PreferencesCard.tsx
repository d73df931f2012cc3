/** One's own time zone and saved views. */
import {useState} from 'react';
import {Link} from 'react-router';
import {Button} from '../../design/Button';
import {Card, Soft} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {DataTable} from '../../design/DataTable';
import {useDone} from '../../design/Done';
import {Trouble} from '../../design/Notice';
import {usePreferences, useSetPreferences} from '../session/preferences';

const here = () => Intl.DateTimeFormat().resolvedOptions().timeZone || 'UTC';

export function PreferencesCard() {
  const {preferences} = usePreferences();
  const set = useSetPreferences();
  const tell = useDone();
  const [zones] = useState(() => [...new Set(['UTC', here(), ...Intl.supportedValuesOf('timeZone')])]);
  const known = zones.includes(preferences.time_zone) ? zones : [preferences.time_zone, ...zones];
  const remove = (name: string) => {
    const before = preferences.views;
    set.mutate(
      {views: before.filter((view) => view.name !== name)},
      {
        onSuccess: () =>
          tell({
            text: `View “${name}” deleted.`,
            undo: async () => {
              await set.mutateAsync({views: before});
              return `View “${name}” is back.`;
            },
          }),
      },
    );
  };
  return (
    <Card title="Preferences" note="days are counted in UTC; moments are shown in your time zone">
      <div style={{display: 'grid', gap: 12, justifyItems: 'start'}}>
        <Choice
          label="Time zone"
          field
          value={preferences.time_zone}
          options={known.map((zone) => ({value: zone, label: zone === here() ? `${zone} (this browser)` : zone}))}
          onChange={(time_zone) => set.mutate({time_zone})}
        />
        {set.error && <Trouble error={set.error} />}
        {preferences.views.length === 0 ? (
          <Soft>No saved views. Save one from any page: “Views” in the header.</Soft>
        ) : (
          <DataTable
            label="Saved views"
            columns={[
              {name: 'View', value: (row) => row.name, show: (row) => <Link to={row.path}>{row.name}</Link>},
              {name: 'Page', value: (row) => row.path},
              {
                name: '',
                tool: true,
                value: () => '',
                show: (row) => (
                  <Button tone="link" aria-label={`Delete view ${row.name}`} onPress={() => remove(row.name)}>
                    Delete
                  </Button>
                ),
              },
            ]}
            rows={preferences.views}
            id={(row) => row.name}
          />
        )}
      </div>
    </Card>
  );
}

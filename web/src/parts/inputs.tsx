import { Input } from '@chakra-ui/react';
import type { ComponentProps } from 'react';
import { useFolders, useUsers } from '../api/client';

/** A path, with those suggested on which something is written. */
export function PathInput(props: ComponentProps<typeof Input>) {
  const folders = useFolders();
  return (
    <>
      <Input list="paths" autoComplete="off" fontFamily="mono" fontSize="sm" placeholder="folder/path" {...props} />
      <datalist id="paths">
        {folders.data?.flatMap((f) => f.places.map((p) => <option key={p.path} value={p.path} />))}
      </datalist>
    </>
  );
}

/** A user, by name. */
export function UserInput(props: ComponentProps<typeof Input>) {
  const users = useUsers();
  return (
    <>
      <Input list="users" autoComplete="off" placeholder="user" {...props} />
      <datalist id="users">
        {users.data?.map((u) => (
          <option key={u.name} value={u.name} label={u.fullName} />
        ))}
      </datalist>
    </>
  );
}

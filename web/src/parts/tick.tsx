import { Checkbox } from '@chakra-ui/react';
import { type Control, Controller, type FieldValues, type Path } from 'react-hook-form';

/** A checkbox of a form, whose value is true or false. */
export function Tick<F extends FieldValues>(props: {
  control: Control<F>;
  name: Path<F>;
  text: string;
  disabled?: boolean;
}) {
  return (
    <Controller
      control={props.control}
      name={props.name}
      render={({ field }) => (
        <Checkbox.Root
          size="sm"
          name={field.name}
          checked={field.value}
          disabled={props.disabled}
          onCheckedChange={(e) => field.onChange(e.checked === true)}
        >
          <Checkbox.HiddenInput onBlur={field.onBlur} ref={field.ref} />
          <Checkbox.Control />
          <Checkbox.Label>{props.text}</Checkbox.Label>
        </Checkbox.Root>
      )}
    />
  );
}

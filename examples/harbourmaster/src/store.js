import { configureStore, createSlice } from '@reduxjs/toolkit';
import { sortBy } from 'lodash';
import { v4 as uuid } from 'uuid';
import { z } from 'zod';

const Arrival = z.object({
  ship: z.string().min(1),
  berth: z.number().int().positive(),
  at: z.string().datetime(),
});

const arrivals = createSlice({
  name: 'arrivals',
  initialState: [],
  reducers: {
    announced: {
      prepare: (arrival) => ({ payload: { id: uuid(), ...Arrival.parse(arrival) } }),
      reducer: (state, { payload }) => sortBy([...state, payload], 'at'),
    },
    departed: (state, { payload }) => state.filter((a) => a.id !== payload),
  },
});

export const { announced, departed } = arrivals.actions;
export const createHarbour = () => configureStore({ reducer: { arrivals: arrivals.reducer } });

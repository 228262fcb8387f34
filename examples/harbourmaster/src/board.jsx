import React from 'react';
import clsx from 'clsx';
import { format, parseISO } from 'date-fns';
import { useSelector } from 'react-redux';
import { Link, Route, Routes, useParams } from 'react-router-dom';

function Row({ arrival }) {
  return (
    <li className={clsx('arrival', arrival.berth === 1 && 'first-berth')}>
      <Link to={`/berth/${arrival.berth}`}>{arrival.ship}</Link> {format(parseISO(arrival.at), 'd MMM yyyy')}
    </li>
  );
}

function All() {
  const arrivals = useSelector((state) => state.arrivals);
  return <ul>{arrivals.map((a) => <Row key={a.id} arrival={a} />)}</ul>;
}

function Berth() {
  const { number } = useParams();
  const arrivals = useSelector((state) => state.arrivals);
  return <p>Berth {number}: {arrivals.filter((a) => String(a.berth) === number).map((a) => a.ship).join(', ') || 'free'}</p>;
}

export function Board() {
  return (
    <Routes>
      <Route path="/" element={<All />} />
      <Route path="/berth/:number" element={<Berth />} />
    </Routes>
  );
}
